package lang

import (
	"fmt"
	"regexp"
	"strings"
	"time"

	"dimlantern/core/entry"
)

// Source is a configured way in: of Files, Channels, Listen, Input and Command one is set.
type Source struct {
	Pos      Pos
	Name     string
	Files    []string      // globs
	Except   []string      // globs of files to leave out
	Changed  time.Duration // leave out files that have not changed for so long; 0 leaves out none
	Every    time.Duration // how often its files are looked at; 0 is as soon as they change
	Channels []string      // names of event channels, or "journal" alone
	At       []string      // where the channels are, each once; none is this machine
	Message  string        // of events: "whole" or "essentials"; "" is whole
	Account  string        // of events: "id", "name" or "both"; "" is name
	Listen   []Listen
	Input    bool       // standard input
	Command  []string   // a program whose standard output it is, and its arguments
	Entry    *EntrySpec // nil: each line is an entry
	Encoding string     // "" is auto
	Begin    Begin
	Layout   string         // "" is the layout that goes with the way in
	Zone     string         // of times without one; "" is the machine's
	Location *time.Location // of Zone, set by who reads settings; nil where Zone is ""
	Host     string         // a constant; "" where none is given
	HostFrom *regexp.Regexp // with a group host, applied to the path
	Fields   []SourceField
	Keep     Keep
	// KeepAtCentre is how long its entries are kept at the centre as well, where it is sent to hosts; 0 is not at all.
	KeepAtCentre time.Duration
	Only         Expr // nil: every entry is taken
	About        []string
	Note         string
	Off          bool
	For          []string // the groups of hosts that it is sent to; nil: it is read here
	Within       []string // globs of which a file has to be in one; nil is any file
}

// Listen is a port at which messages are received.
type Listen struct {
	Pos     Pos
	Proto   string // udp, tcp or tls
	Address string // HOST:PORT
	Cert    string // a file with our certificate, of tls
	Key     string // a file with its key
	Clients string // a file with the authorities of the clients' certificates; "" asks for none
}

// SourceField is a field that every entry of a source has.
type SourceField struct {
	Name  string
	Const string
	From  *regexp.Regexp // with a group of the field's name, applied to the path; nil with Const
	Host  bool           // From is applied to the host's name instead
}

// Keep says how long entries that exist nowhere else are kept.
type Keep struct {
	How string        // "", "for", "hits" or "nothing"
	For time.Duration // with "for"
}

// EntrySpec says which lines belong together.
type EntrySpec struct {
	Starts *Pattern      // a line that it fits begins an entry
	Most   int           // lines of an entry at most
	Closed time.Duration // after which no further line belongs to the last entry
}

// Where a source begins to read what is there when it is first seen.
const (
	BeginNow = iota
	BeginOldest
	BeginAgo
	BeginAt
)

// Begin is where reading begins. The zero value is "now".
type Begin struct {
	How int
	Ago time.Duration // with BeginAgo
	At  entry.Instant // with BeginAt
}

// Kept tells whether the source's entries exist nowhere else, so that they are kept
// before they are judged.
func (s *Source) Kept() bool { return len(s.Channels) > 0 || len(s.Listen) > 0 || s.Piped() }

// Piped tells whether the source is a stream of lines that somebody writes.
func (s *Source) Piped() bool { return s.Input || len(s.Command) > 0 }

// Journal tells whether the source is the system journal.
func (s *Source) Journal() bool { return len(s.Channels) == 1 && s.Channels[0] == "journal" }

// WayAt is how a way in of a place is called.
func WayAt(way, place string) string { return way + " at " + place }

// ChannelWays are the ways by which entries of the source's channels come: the channels' names, with
// the place where the channels are in several.
func (s *Source) ChannelWays() []string {
	if len(s.At) < 2 {
		return s.Channels
	}
	var out []string
	for _, place := range s.At {
		for _, name := range s.Channels {
			out = append(out, WayAt(name, place))
		}
	}
	return out
}

// ChannelOf is the channel of a way; "" where the source has none.
func (s *Source) ChannelOf(way string) string {
	for i, w := range s.ChannelWays() {
		if w == way {
			return s.Channels[i%len(s.Channels)]
		}
	}
	if len(s.Channels) == 0 {
		return ""
	}
	return way
}

// LayoutName is the layout of the source: the one that it names, else the one that
// goes with its way in.
func (s *Source) LayoutName() string {
	switch {
	case s.Layout != "":
		return s.Layout
	case s.Journal():
		return "journal"
	case len(s.Channels) > 0:
		return "event-xml"
	case len(s.Listen) > 0:
		return "syslog"
	}
	return "plain"
}

// Where says in words where the entries come from.
func (s *Source) Where() string {
	switch {
	case len(s.Channels) > 0:
		where := "channel " + strings.Join(s.Channels, ", ")
		if len(s.At) > 0 {
			where = WayAt(where, strings.Join(s.At, ", "))
		}
		return where
	case len(s.Listen) > 0:
		var all []string
		for _, l := range s.Listen {
			all = append(all, l.Proto+" "+l.Address)
		}
		return "syslog " + strings.Join(all, ", ")
	case s.Input:
		return "standard input"
	case len(s.Command) > 0:
		return "command " + strings.Join(s.Command, " ")
	}
	return "files " + strings.Join(s.Files, ", ")
}

func readFiles(c *cursor, node any) {
	s := node.(*Source)
	for {
		t := c.peek()
		g := c.text("a path")
		if g != "" && !strings.HasPrefix(g, "/") && !c.failed {
			c.fail(t, "relative-path", fmt.Sprintf("the path %s does not begin with /", Quote(g)),
				"write where it lies from the root: \"/var/log/…\"")
		}
		s.Files = append(s.Files, g)
		if !c.accept(",") {
			break
		}
	}
	for c.more() {
		switch t := c.next(); t.src {
		case "except":
			s.Except = append(s.Except, c.text("a path"))
			for c.accept(",") {
				s.Except = append(s.Except, c.text("a path"))
			}
		case "changed":
			if !c.accept("within") {
				c.expected(c.peek(), "within", "write: changed within 2d")
			}
			s.Changed = c.duration("a time")
		case "every":
			s.Every = c.duration("a time")
		default:
			c.i--
			c.done("after the paths come only except, changed within and every")
		}
	}
}

func readChannel(c *cursor, node any) {
	s := node.(*Source)
	const mend = "write: channel \"NAME\", or channel journal; and, where it is elsewhere: at \"FOLDER\", or at " +
		"\"HOST:PORT\"; or several of them: at \"A\", \"B\""
	if c.more() && c.peek().is("journal") {
		c.next()
		s.Channels = append(s.Channels, "journal")
	} else {
		for {
			s.Channels = append(s.Channels, c.text("a channel's name"))
			if !c.accept(",") {
				break
			}
		}
	}
	for c.more() {
		switch t := c.next(); t.src {
		case "at":
			readPlaces(c, s)
		case "message":
			s.Message = c.oneOf("whole or essentials", "whole", "essentials")
		case "account":
			s.Account = c.oneOf("id, name or both", "id", "name", "both")
		default:
			c.i--
			c.done(mend)
		}
	}
}

// readPlaces reads where channels are.
func readPlaces(c *cursor, s *Source) {
	for {
		t := c.peek()
		place := c.text("where the channels are")
		switch {
		case strings.TrimSpace(place) == "" && !c.failed:
			c.fail(t, "incomplete", "no place is named", "write where they are: at \"HOST:PORT\"")
		case contains(s.At, place) && !c.failed:
			c.fail(t, "twice", fmt.Sprintf("%s is named twice", visible(place)), "name each place once")
		}
		s.At = append(s.At, place)
		if !c.accept(",") {
			return
		}
	}
}

// oneOf reads one of some words.
func (c *cursor) oneOf(what string, words ...string) string {
	t := c.next()
	switch {
	case t.kind != name:
		c.expected(t, what, "there are: "+strings.Join(words, ", "))
	case !contains(words, t.src):
		c.fail(t, "unknown-word", fmt.Sprintf("%s is not %s", visible(t.src), what), meant(t.src, words))
	}
	return t.src
}

func readMessage(c *cursor, node any) {
	node.(*Source).Message = c.oneOf("whole or essentials", "whole", "essentials")
	c.done("write: message whole, or message essentials")
}

func readAccount(c *cursor, node any) {
	node.(*Source).Account = c.oneOf("id, name or both", "id", "name", "both")
	c.done("write: account id, account name, or account both")
}

func readListen(c *cursor, node any) {
	s := node.(*Source)
	const mend = `write: listen syslog udp "0.0.0.0:514"; with tls: listen syslog tls "0.0.0.0:6514" cert "FILE" ` +
		`key "FILE"`
	l := Listen{Pos: c.toks[0].pos}
	if !c.accept("syslog") {
		c.expected(c.peek(), "syslog", mend)
	}
	l.Proto = c.oneOf("udp, tcp or tls", "udp", "tcp", "tls")
	t := c.peek()
	l.Address = c.text("an address and a port")
	if i := strings.LastIndexByte(l.Address, ':'); !c.failed && (i < 0 || !port(l.Address[i+1:])) {
		c.fail(t, "bad-address", fmt.Sprintf("%s has no port", Quote(l.Address)),
			`write an address and a port: "0.0.0.0:514", or ":514" for all addresses`)
	}
	for c.more() {
		switch t := c.next(); t.src {
		case "cert":
			l.Cert = c.text("a file")
		case "key":
			l.Key = c.text("a file")
		case "clients":
			l.Clients = c.text("a file")
		default:
			c.i--
			c.done("after the address come only cert, key and clients")
		}
	}
	switch {
	case c.failed:
	case l.Proto == "tls" && (l.Cert == "" || l.Key == ""):
		c.fail(c.toks[0], "incomplete", "tls needs a certificate and its key", mend)
	case l.Proto != "tls" && l.Cert+l.Key+l.Clients != "":
		c.fail(c.toks[0], "syntax", l.Proto+" has no certificates", "write: listen syslog tls …")
	}
	s.Listen = append(s.Listen, l)
}

func port(s string) bool {
	n := 0
	for i := range len(s) {
		if !isDigit(s[i]) || n > 65535 {
			return false
		}
		n = n*10 + int(s[i]-'0')
	}
	return s != "" && n <= 65535
}

func readSourceCommand(c *cursor, node any) {
	s := node.(*Source)
	t := c.peek()
	if words := c.program(); s.Command == nil {
		s.Command = words
	} else if !c.failed {
		c.fail(t, "two-ways-in", fmt.Sprintf("the source %s runs a program already", s.Name),
			"give each program a source of its own")
	}
	c.done(`write: command "/usr/local/bin/tide-gauge" "--follow"`)
}

func readInput(c *cursor, node any) {
	node.(*Source).Input = true
	c.done("input stands alone: it is standard input")
}

func readZone(c *cursor, node any) {
	t := c.peek()
	zone := c.text("a zone")
	if !c.failed && c.file.env.Zone != nil && c.file.env.Zone(zone) == nil {
		c.fail(t, "unknown-zone", fmt.Sprintf("there is no zone %s", Quote(zone)),
			`write a zone of the time zone database: "Europe/Dublin", or "UTC"`)
	}
	c.done(`write: zone "Europe/Dublin"`)
	switch n := node.(type) {
	case *Source:
		n.Zone = zone
	case *Settings:
		n.Zone = zone
	}
}

func readSourceField(c *cursor, node any) {
	s := node.(*Source)
	f := SourceField{Name: c.fieldName("a field")}
	const mend = `write: field site "north", field site from path /sites\/(?<site>[^\/]+)/, or field site from ` +
		`host /^(?<site>[a-z]+)-/`
	if c.accept("from") {
		if f.Host = c.accept("host"); !f.Host && !c.accept("path") {
			c.expected(c.peek(), "path, or host,", mend)
		}
		t := c.peek()
		if p := c.pattern("a pattern"); p != nil {
			if !contains(p.Groups, f.Name) {
				c.fail(t, "no-field-group", "the pattern has no group that is named "+f.Name,
					"name the part that is the field: (?<"+f.Name+">…)")
			}
			f.From = p.Re()
		}
	} else {
		f.Const = c.text("a text, or from path /…/")
	}
	c.done(mend)
	s.Fields = append(s.Fields, f)
}

// SentFile begins the names of files that a centre has sent.
const SentFile = "centre/"

func readKeep(c *cursor, node any) {
	s := node.(*Source)
	const mend = "write: keep 7d, keep hits, keep nothing, or, for hosts, keep at centre 30d"
	if t := c.peek(); t.is("at") {
		if s.KeepAtCentre != 0 {
			c.fail(c.toks[0], "twice", "keep at centre is written twice", "keep one of them")
		}
		c.accept("at")
		if !c.accept("centre") {
			c.expected(c.peek(), "centre", mend)
			return
		}
		s.KeepAtCentre = c.duration("a time")
		c.done(mend)
		return
	}
	if s.Keep.How != "" {
		c.fail(c.toks[0], "twice", "keep is written twice", "keep one of them")
	}
	switch t := c.peek(); {
	case t.kind == number:
		s.Keep = Keep{"for", c.duration("a time")}
	default:
		s.Keep = Keep{How: c.oneOf("a time, hits or nothing", "hits", "nothing")}
	}
	c.done(mend)
}

// leastAtMost is the least that kept entries can be bounded by, in bytes.
const leastAtMost = 1 << 20

func readAtMost(c *cursor, node any) {
	const mend = "write: keep at most 2 GiB"
	if !c.accept("at") || !c.accept("most") {
		c.expected(c.peek(), "at most", mend)
	}
	t := c.next()
	if t.kind != number {
		c.expected(t, "a size", mend)
		return
	}
	v := c.numeric(t, "==")
	if n, ok := v.Number.Int(); !c.failed && (!ok || n < leastAtMost) {
		c.fail(t, "bad-size", fmt.Sprintf("%s is no size of a MiB or more", visible(v.Src)), mend)
	} else if s := node.(*Settings); s.AtMost != 0 {
		c.fail(c.toks[0], "twice", "how much is kept is written twice", "keep one of them")
	} else {
		s.AtMost = n
	}
	c.done(mend)
}

func readOnly(c *cursor, node any) {
	s := node.(*Source)
	if x := c.whole(); !c.failed {
		if s.Only == nil {
			s.Only = x
		} else {
			s.Only = &And{[]Expr{s.Only, x}}
		}
	}
}

func readBegin(c *cursor, node any) {
	s := node.(*Source)
	const mend = "write: begin now, begin oldest, begin 24h ago, or begin 2026-11-24T05:00:00Z"
	switch t := c.next(); {
	case t.is("now"):
		s.Begin.How = BeginNow
	case t.is("oldest"):
		s.Begin.How = BeginOldest
	case t.kind == number:
		if at, err := time.Parse(time.RFC3339Nano, t.src); err == nil {
			s.Begin = Begin{How: BeginAt, At: entry.Of(at)}
			break
		}
		c.i--
		s.Begin = Begin{How: BeginAgo, Ago: c.duration("a duration")}
		if !c.accept("ago") {
			c.expected(c.peek(), "ago", mend)
		}
	default:
		c.expected(t, "where to begin", mend)
	}
	c.done(mend)
}

func readSourceLayout(c *cursor, node any) {
	s := node.(*Source)
	t := c.next()
	if t.kind != name {
		c.expected(t, "a layout's name", "write: layout NAME, or layout plain")
	}
	s.Layout = t.src
	c.done("a source has one layout")
}

func readHost(c *cursor, node any) {
	s := node.(*Source)
	if !c.accept("from") {
		s.Host = c.text("a host's name, or from path /…/")
		c.done("a host is one text")
		return
	}
	if !c.accept("path") {
		c.expected(c.peek(), "path", "write: host from path /pumps\\/(?<host>[^\\/]+)\\.log/")
	}
	t := c.peek()
	if p := c.pattern("a pattern"); p != nil {
		if !contains(p.Groups, "host") {
			c.fail(t, "no-host-group", "the pattern has no group that is named host",
				"name the part that is the host: (?<host>…)")
		}
		s.HostFrom = p.Re()
	}
	c.done("one pattern finds the host")
}

func readEntry(c *cursor, node any) {
	s := node.(*Source)
	const mend = "write: entry starts /^\\d{4}-/ at most 500 lines closed after 2s"
	if !c.accept("starts") {
		c.expected(c.peek(), "starts", mend)
	}
	s.Entry = &EntrySpec{Most: maxEntryLines, Closed: closedAfter}
	s.Entry.Starts = c.pattern("a pattern")
	for c.more() {
		switch t := c.next(); {
		case t.is("at"):
			if !c.accept("most") {
				c.expected(c.peek(), "most", mend)
			}
			s.Entry.Most = c.count("the number of lines")
			if !c.accept("lines") && !c.accept("line") {
				c.expected(c.peek(), "lines", mend)
			}
		case t.is("closed"):
			if !c.accept("after") {
				c.expected(c.peek(), "after", mend)
			}
			s.Entry.Closed = c.duration("a time")
		default:
			c.i--
			c.done(mend)
		}
	}
}

// What an entry of many lines is bounded by, where the source does not say.
const (
	maxEntryLines = 1000
	closedAfter   = 2 * time.Second
)

// encodings are the ways in which bytes are text.
var encodings = []string{"utf-8", "utf-16", "latin-1", "auto"}

func readEncoding(c *cursor, node any) {
	t := c.next()
	switch {
	case t.kind != name:
		c.expected(t, "an encoding", "encodings are "+strings.Join(encodings, ", "))
	case !contains(encodings, t.src):
		c.fail(t, "unknown-encoding", fmt.Sprintf("there is no encoding %q", t.src), meant(t.src, encodings))
	}
	c.done("a source has one encoding")
	node.(*Source).Encoding = t.src
}

// completeSource tells what a source lacks, or has that does not go together.
func (k *checker) completeSource(f *File, b *block, s *Source) {
	ways := 0
	for _, has := range []bool{len(s.Files) > 0, len(s.Channels) > 0, len(s.Listen) > 0, s.Input,
		len(s.Command) > 0} {
		if has {
			ways++
		}
	}
	switch {
	case ways == 0:
		f.report(Err, "incomplete", b.name, fmt.Sprintf("the source %s does not say where its entries come from",
			s.Name), `write: files "/var/log/….log", channel "NAME", listen syslog …, command "…", or input`)
		return
	case ways > 1:
		f.report(Err, "two-ways-in", b.name, fmt.Sprintf("the source %s has several ways in", s.Name),
			"give each way in a source of its own")
		return
	case contains(s.Channels, "journal") && len(s.Channels) > 1:
		f.report(Err, "two-ways-in", b.name, "the journal stands beside event channels",
			"give the journal a source of its own")
		return
	}
	wrong := func(word, what, mend string) { k.clause(f, b, word, "", Err, "does-not-apply", what, mend) }
	if len(s.Channels) == 0 || s.Journal() {
		if s.Message != "" {
			wrong("message", "only the events of channels have a message apart", "take the clause out")
		}
		if s.Account != "" {
			wrong("account", "only the events of channels have an account", "take the clause out")
		}
	}
	if s.KeepAtCentre > 0 && len(s.For) == 0 && f.kit == "" && !strings.HasPrefix(f.Name, SentFile) {
		k.clause(f, b, "keep", "", Finding, "does-not-apply",
			"the source is for no host: nothing of it comes to a centre",
			"write for GROUP in it, or take keep at centre out")
	}
	if s.Kept() {
		if s.Entry != nil && !s.Piped() {
			wrong("entry", "its entries are whole as they come", "take the clause out")
		}
		if s.Begin.How != BeginNow && len(s.Channels) == 0 {
			wrong("begin", "nothing was there before it came", "take the clause out")
		}
		if s.Encoding != "" && !s.Piped() {
			wrong("encoding", "its entries come as UTF-8", "take the clause out")
		}
	} else if s.Keep.How != "" {
		wrong("keep", "files are read in place, and stay where they are", "take the clause out")
	}
}
