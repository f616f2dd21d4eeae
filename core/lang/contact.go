package lang

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/core/entry"
)

// Contact is who is told, how, when and how much at once.
type Contact struct {
	Pos     Pos
	Name    string
	Mail    []string // addresses
	Webhook []Webhook
	Syslog  []Listen // where it is sent to: protocol and address
	Command [][]string
	From    entry.Severity // 0: of any
	Hours   []Hours        // none: always
	Gather  time.Duration  // what comes within it is one message; 0: each is one
	Most    int            // messages within MostIn, then one summary; 0: any number
	MostIn  time.Duration
	On      []string // changes; none: all
	About   []string
	Note    string
	Off     bool
}

// WayNames are the contact's ways in words, in their order: mail, then webhooks, syslog and commands. Where
// there are several of a kind, each with what tells it apart.
func (c *Contact) WayNames() []string {
	var out []string
	if len(c.Mail) > 0 {
		out = append(out, "mail")
	}
	add := func(kind string, of []string) {
		for _, x := range of {
			if len(of) == 1 {
				out = append(out, kind)
			} else {
				out = append(out, kind+" "+x)
			}
		}
	}
	var hooks, logs, commands []string
	for _, w := range c.Webhook {
		host := w.URL
		if i := strings.Index(host, "://"); i >= 0 {
			host = host[i+3:]
		}
		host, _, _ = strings.Cut(host, "/")
		hooks = append(hooks, host)
	}
	for _, l := range c.Syslog {
		logs = append(logs, l.Address)
	}
	for _, words := range c.Command {
		commands = append(commands, words[0][strings.LastIndexByte(words[0], '/')+1:])
	}
	add("webhook", hooks)
	add("syslog", logs)
	add("command", commands)
	return out
}

// Webhook is an address that is posted to.
type Webhook struct {
	URL    string
	Secret string // a file; "" where nothing is signed
}

// Hush is a time in which nothing is told of some alerts.
type Hush struct {
	Pos      Pos
	Name     string
	Rules    []string
	Words    []string // of the rules' `about`
	Where    Expr     // nil: all of those rules
	From, To entry.Instant
	Hours    []Hours // where From and To are not set
	Why      string
	Note     string
	Off      bool
}

// Mail is the server that mail is given to.
type Mail struct {
	Server   string // host and port
	TLS      string // "", starttls or tls
	User     string
	Password string // a file
	From     string
}

// Heartbeat is posted to again and again, so that someone notices when it stops.
type Heartbeat struct {
	URL   string
	Every time.Duration
}

// Contact returns the contact of that name, or nil.
func (s *Settings) Contact(name string) *Contact {
	for _, x := range s.Contacts {
		if x.Name == name {
			return x
		}
	}
	return nil
}

// Keys is how many keys each rule keeps.
func (s *Settings) Keys() int {
	if s.MostKeys == 0 {
		return DefaultKeys
	}
	return s.MostKeys
}

// DefaultKeys is how many keys a rule keeps where nothing is said.
const DefaultKeys = 100_000

// address reads a mail address.
func (c *cursor) address() string {
	t := c.peek()
	a := c.text("a mail address")
	user, host, ok := strings.Cut(a, "@")
	if !c.failed && (!ok || user == "" || host == "" || strings.ContainsAny(a, " ,;<>\n\t") ||
		strings.Contains(host, "@")) {
		c.fail(t, "bad-address", Quote(a)+" is no mail address",
			`write: "duty@gullhaven.example"; several stand in quotes of their own, with commas between them`)
	}
	return a
}

// hostPort reads a host and a port.
func (c *cursor) hostPort(example string) string {
	t := c.peek()
	a := c.text("a host and a port")
	if i := strings.LastIndexByte(a, ':'); !c.failed && (i < 1 || !port(a[i+1:])) {
		c.fail(t, "bad-address", Quote(a)+" is no host with a port", "write: "+Quote(example))
	}
	return a
}

func (c *cursor) url() string {
	t := c.peek()
	u := c.text("an address")
	scheme, rest, _ := strings.Cut(u, "://")
	if host, _, _ := strings.Cut(rest, "/"); !c.failed &&
		(scheme != "https" && scheme != "http" || host == "" || strings.ContainsAny(u, " \n\t")) {
		c.fail(t, "bad-address", Quote(u)+" is no address of a webhook",
			`write: "https://hooks.gullhaven.example/alerts"`)
	}
	return u
}

// secret reads `from file "…"`.
func (c *cursor) fromFile(mend string) string {
	if !c.accept("from") || !c.accept("file") {
		c.expected(c.peek(), "from file", mend)
	}
	t := c.peek()
	f := c.text("a file")
	if !c.failed && !strings.HasPrefix(f, "/") {
		c.fail(t, "relative-path", fmt.Sprintf("the path %s does not begin with /", Quote(f)),
			"write where it lies from the root; secrets stand in a file of their own that others cannot read")
	}
	return f
}

func readMail(c *cursor, node any) {
	if s, ok := node.(*Settings); ok {
		c.mailServer(s)
		return
	}
	n := node.(*Contact)
	for {
		n.Mail = append(n.Mail, c.address())
		if !c.accept(",") {
			break
		}
	}
	c.done(`write: mail "ADDRESS", "ADDRESS"`)
}

func (c *cursor) mailServer(s *Settings) {
	const mend = `write: mail server "mail.gullhaven.example:587" starttls user "lantern" password from file ` +
		`"/etc/dimlantern/mail.secret" from "lantern@gullhaven.example"`
	if !c.accept("server") {
		c.expected(c.peek(), "server", mend)
	}
	m := &Mail{Server: c.hostPort("mail.gullhaven.example:587")}
	for c.more() {
		switch t := c.next(); {
		case t.is("starttls"), t.is("tls"):
			m.TLS = t.src
		case t.is("user"):
			m.User = c.text("a name")
			if !c.accept("password") {
				c.expected(c.peek(), "password", mend)
			}
			m.Password = c.fromFile(mend)
		case t.is("from"):
			m.From = c.address()
		default:
			c.i--
			c.done("after the server come only starttls or tls, user … password from file …, and from")
		}
	}
	if m.From == "" && !c.failed {
		c.fail(c.toks[0], "incomplete", "it does not say from whom the mail is", mend)
	}
	s.Mail = m
}

func readWebhook(c *cursor, node any) {
	const mend = `write: webhook "https://…" secret from file "/etc/dimlantern/hook.secret"`
	w := Webhook{URL: c.url()}
	if c.accept("secret") {
		w.Secret = c.fromFile(mend)
	}
	c.done(mend)
	n := node.(*Contact)
	n.Webhook = append(n.Webhook, w)
}

func readContactSyslog(c *cursor, node any) {
	l := Listen{Pos: c.toks[0].pos, Proto: c.oneOf("udp, tcp or tls", "udp", "tcp", "tls")}
	l.Address = c.hostPort("log.gullhaven.example:514")
	c.done(`write: syslog udp "HOST:PORT"`)
	n := node.(*Contact)
	n.Syslog = append(n.Syslog, l)
}

func readCommand(c *cursor, node any) {
	n := node.(*Contact)
	n.Command = append(n.Command, c.program())
}

// program reads a program and its arguments.
func (c *cursor) program() []string {
	t := c.peek()
	words := []string{c.text("a program")}
	for c.more() {
		c.accept(",")
		words = append(words, c.text("an argument"))
	}
	switch {
	case c.failed:
	case !strings.HasPrefix(words[0], "/"):
		c.fail(t, "relative-path", fmt.Sprintf("the program %s does not begin with /", Quote(words[0])),
			`write where it lies from the root, and each argument in quotes of its own: command `+
				`"/usr/local/bin/beacon" "on"`)
	}
	return words
}

func readContactFrom(c *cursor, node any) {
	node.(*Contact).From = c.severity()
	c.done("write: from error")
}

func readContactHours(c *cursor, node any) {
	const mend = "write: hours mon-fri 08:00-18:00"
	h, ok := c.span(mend)
	c.done(mend)
	if ok && !c.failed {
		n := node.(*Contact)
		n.Hours = append(n.Hours, h)
	}
}

func readGather(c *cursor, node any) {
	node.(*Contact).Gather = c.duration("a time")
	c.done("write: gather 30s")
}

func readMost(c *cursor, node any) {
	if s, ok := node.(*Settings); ok {
		const mend = "write: most 200000 keys a rule"
		n := c.count("the number of keys")
		for _, w := range []string{"keys", "a", "rule"} {
			if !c.accept(w) {
				c.expected(c.peek(), "keys a rule", mend)
			}
		}
		c.done(mend)
		s.MostKeys = n
		return
	}
	const mend = "write: most 20 in 1h"
	n := node.(*Contact)
	n.Most = c.count("the number of messages")
	if !c.accept("in") {
		c.expected(c.peek(), "in", mend)
	}
	n.MostIn = c.duration("a time")
	c.done(mend)
}

func readContactOn(c *cursor, node any) {
	n := node.(*Contact)
	n.On = append(n.On, c.changes()...)
	c.done("write: on raised, worsened, cleared")
}

// changes reads CHANGE, ….
func (c *cursor) changes() []string {
	var out []string
	for {
		out = append(out, c.oneOf("a change that is told", toldChanges...))
		if !c.accept(",") {
			return out
		}
	}
}

func readHushRules(c *cursor, node any) {
	n := node.(*Hush)
	n.Rules = append(n.Rules, c.names("a rule's name")...)
}

func readHushWhere(c *cursor, node any) {
	n := node.(*Hush)
	if x := c.whole(); !c.failed {
		n.Where = either(n.Where, x)
	}
}

func readHushFrom(c *cursor, node any) {
	const mend = "write: from 2026-12-01T22:00:00Z to 2026-12-02T04:00:00Z"
	n := node.(*Hush)
	instant := func() entry.Instant {
		t := c.next()
		at, err := time.Parse(time.RFC3339Nano, t.src)
		switch {
		case t.kind != number:
			c.expected(t, "a time", mend)
		case err != nil:
			c.fail(t, "bad-time", visible(t.src)+" is no time", mend)
		}
		return entry.Of(at)
	}
	n.From = instant()
	if !c.accept("to") {
		c.expected(c.peek(), "to", mend)
	}
	t := c.peek()
	n.To = instant()
	if !c.failed && n.To <= n.From {
		c.fail(t, "bad-time", "it ends before it begins", "write the earlier time first")
	}
	c.done(mend)
}

// readHushHours reads DAYS HH:MM-HH:MM, which have no word of their own.
func readHushHours(c *cursor, node any) {
	const mend = "write: sun 02:00-04:00, or mon-fri 22:00-06:00"
	c.i = 0
	h, ok := c.span(mend)
	c.done(mend)
	if ok && !c.failed {
		n := node.(*Hush)
		n.Hours = append(n.Hours, h)
	}
}

func readHushWhy(c *cursor, node any) {
	node.(*Hush).Why = c.text("a reason")
	c.done("why is one text")
}

// beginsHours tells whether a clause begins with days or with a span of time.
func beginsHours(t token) bool {
	day, _, _ := strings.Cut(t.src, "-")
	return t.kind == number || t.kind == name && slices.Contains(weekdays, day)
}

func readSettingsTell(c *cursor, node any) {
	s := node.(*Settings)
	all := c.names("a contact's name")
	if c.failed {
		return
	}
	s.Tell = append(s.Tell, all...)
	for _, t := range c.toks[1:] {
		if t.kind == name {
			s.tells = append(s.tells, t)
		}
	}
}

func readHeartbeat(c *cursor, node any) {
	const mend = `write: heartbeat webhook "https://…" every 1m`
	if !c.accept("webhook") {
		c.expected(c.peek(), "webhook", mend)
	}
	h := &Heartbeat{URL: c.url()}
	if !c.accept("every") {
		c.expected(c.peek(), "every", mend)
	}
	h.Every = c.duration("a time")
	c.done(mend)
	node.(*Settings).Heartbeat = h
}

func readApply(c *cursor, node any) {
	const mend = "write: apply by hand"
	if !c.accept("by") || !c.accept("hand") {
		c.expected(c.peek(), "by hand", mend)
	}
	c.done(mend)
	node.(*Settings).ByHand = true
}

func readBuiltIn(c *cursor, node any) {
	const mend = "write: built-in off, or: built-in off rule-silent"
	s := node.(*Settings)
	if !c.accept("off") {
		c.expected(c.peek(), "off", mend)
		return
	}
	if !c.more() {
		s.AllBuiltInOff = true
		return
	}
	at := c.peek()
	for _, n := range c.names("a built-in rule's name") {
		if !contains(BuiltInRules, n) {
			c.fail(at, "unknown-name", fmt.Sprintf("there is no built-in rule %q", n), meant(n, BuiltInRules))
			return
		}
		s.BuiltInOff = append(s.BuiltInOff, n)
	}
}

// completeContact tells what a contact lacks.
func (k *checker) completeContact(f *File, b *block, n *Contact) {
	if len(n.Mail)+len(n.Webhook)+len(n.Syslog)+len(n.Command) == 0 {
		f.report(Err, "incomplete", b.name, fmt.Sprintf("the contact %s does not say how it is told", n.Name),
			`write: mail "ADDRESS", webhook "URL", syslog udp "HOST:PORT", or command "PROGRAM"`)
	}
}

// completeHush tells what a hush lacks.
func (k *checker) completeHush(f *File, b *block, n *Hush) {
	switch {
	case len(n.Rules) == 0 && len(n.Words) == 0 && n.Where == nil:
		f.report(Err, "incomplete", b.name, fmt.Sprintf("the hush %s does not say what it hushes", n.Name),
			"write: rules NAME, …, or where host == \"pump-03\", or about WORD")
	case n.From == 0 && len(n.Hours) == 0:
		f.report(Err, "incomplete", b.name, fmt.Sprintf("the hush %s does not say when", n.Name),
			"write: from 2026-12-01T22:00:00Z to 2026-12-02T04:00:00Z, or sun 02:00-04:00")
	case n.From != 0 && len(n.Hours) > 0:
		f.report(Err, "syntax", b.name, fmt.Sprintf("the hush %s is both for once and again and again", n.Name),
			"make two of it")
	}
}

// people looks up the contacts and rules that tells and hushes name.
func (k *checker) people() {
	s := k.settings
	has := func(f *File, at token, name string) {
		if !contains(k.names["contact"], name) {
			f.report(Err, "unknown-name", at, fmt.Sprintf("there is no contact %q", name),
				meant(name, k.names["contact"]))
		}
	}
	for i, n := range s.Tell {
		has(k.settingsFile["tell"], s.tells[i], n)
	}
	for _, r := range s.Rules {
		for _, t := range r.Tells {
			for i, n := range t.Contacts {
				has(k.file[r], t.names[i], n)
			}
		}
	}
	for _, h := range s.Hushes {
		for _, n := range h.Rules {
			if !contains(k.names["rule"], n) && !contains(BuiltInRules, n) {
				k.at(k.file[h], h, "hush", "rules", n, Err, "unknown-name", fmt.Sprintf("there is no rule %q", n),
					meant(n, k.names["rule"]))
			}
		}
		for _, w := range h.Words {
			if !slices.ContainsFunc(s.Rules, func(r *Rule) bool { return contains(r.About, w) }) {
				k.at(k.file[h], h, "hush", "about", w, Finding, "hushes-nothing",
					fmt.Sprintf("no rule is about %s", w), "write a word that a rule's about has")
			}
		}
	}
	if s.Mail == nil {
		for _, n := range s.Contacts {
			if len(n.Mail) > 0 {
				k.at(k.file[n], n, "contact", "mail", "", Note, "no-mail-server",
					"no mail server is named, so nothing can be sent",
					`write: settings { mail server "HOST:PORT" from "ADDRESS" }`)
			}
		}
	}
}
