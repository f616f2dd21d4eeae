package workbench

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/origin"
	"dimlantern/intake/channel"
	"dimlantern/intake/journal"
	"dimlantern/intake/listen"
)

// OfferWords are the words that stand in the place of a path.
var OfferWords = []string{"channel", "journal", "syslog", "command"}

// bringWay answers for what is no path; false where it is one.
func (s *Workbench) bringWay(b *api.Brought, typed, want string) (clause, name, kind string, ok bool) {
	word, rest, _ := strings.Cut(typed, " ")
	rest = strings.TrimSpace(rest)
	switch word {
	case "channel":
		clause, name = s.bringChannel(b, rest)
		kind = "event-xml"
	case "journal":
		clause, name = s.bringJournal(b)
		kind = "journal"
	case "syslog":
		clause, name = s.bringSyslog(b, rest, want)
		kind = "syslog"
	case "command":
		clause, name = s.bringCommand(b, rest)
		kind = "plain"
	default:
		for _, w := range OfferWords {
			if typed != "" && strings.HasPrefix(w, typed) {
				b.Offers = append(b.Offers, api.Offer{Type: w})
				ok = true
			}
		}
	}
	return clause, name, kind, ok || slices.Contains(OfferWords, word)
}

// placesOfChannels are the places where channels can be: this machine, and those that
// sources name.
func (s *Workbench) placesOfChannels() []string {
	sn := s.Window.Now()
	out := []string{""}
	if sn.Channels != "" {
		out[0] = sn.Channels
	}
	for _, src := range sn.Settings.Sources {
		for _, place := range src.At {
			if !src.Journal() && !slices.Contains(out, place) {
				out = append(out, place)
			}
		}
	}
	return out
}

// bringChannel offers the channels that there are, of those the ones that begin as
// what was typed; one that was typed in full becomes a source.
func (s *Workbench) bringChannel(b *api.Brought, typed string) (clause, name string) {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	typed, only, _ := strings.Cut(typed, " only ")
	typed, at, _ := strings.Cut(typed, " at ")
	typed = strings.TrimSpace(typed)
	named := listed(at)
	places := named
	if len(named) == 0 {
		places = s.placesOfChannels()
	}
	var missing, found []string
	for _, place := range places {
		list, err := channel.List(ctx, place)
		if err != nil {
			missing = append(missing, err.Error())
			continue
		}
		for _, x := range list {
			if !strings.HasPrefix(strings.ToLower(x.Name), strings.ToLower(typed)) {
				continue
			}
			b.Offers = append(b.Offers, offerChannel(x, place, x.Name == typed))
			if x.Name == typed {
				found, name = append(found, place), x.Name
				b.Usual, b.Odd = channelKinds(x)
			}
		}
	}
	switch {
	case len(missing) > 0 && (len(b.Offers) == 0 || len(named) > 0):
		b.Words = strings.Join(missing, "; ")
	case len(b.Offers) == 0:
		b.Words = "no channel begins so"
	}
	if len(found) == 0 {
		return "", ""
	}
	if len(named) > 0 { // also where it cannot be asked now
		found = named
	} else {
		found = found[len(found)-1:]
	}
	clause = "channel " + lang.Quote(name)
	for i, place := range found {
		switch {
		case place == "":
		case i == 0:
			clause += " at " + lang.Quote(place)
		default:
			clause += ", " + lang.Quote(place)
		}
	}
	if only = strings.TrimSpace(only); only != "" {
		clause += "\nonly " + only
	}
	return clause, name
}

// listed are the parts of what was typed with commas between, each once.
func listed(typed string) []string {
	var out []string
	for _, x := range strings.Split(typed, ",") {
		if x = strings.TrimSpace(x); x != "" && !slices.Contains(out, x) {
			out = append(out, x)
		}
	}
	return out
}

// offerChannel offers a channel, with its most frequent kinds of events; with more of them where it
// was typed in full, since one of them can be taken alone: channel NAME only event == …
func offerChannel(x channel.Info, place string, full bool) api.Offer {
	o := api.Offer{Type: "channel " + x.Name, Words: channelWords(x), Mend: x.Mend, Bad: x.Words != ""}
	if place != "" {
		o.Type = lang.WayAt(o.Type, place)
	}
	most := 3
	if full {
		most = 12
	}
	for _, k := range x.Kinds[:min(len(x.Kinds), most)] {
		o.Detail = append(o.Detail, fmt.Sprintf("%d × %s %s  %s", k.N, k.Event, k.Level, k.Text))
	}
	return o
}

// channelKinds are the kinds of events of a channel, as entries: the frequent ones, and the seldom ones.
func channelKinds(x channel.Info) (usual, odd []api.EntryView) {
	for i, k := range x.Kinds {
		e := api.EntryView{At: entry.None, Text: k.Event + " " + k.Level + "  " + k.Text, Fits: true}
		if i < 4 {
			usual = append(usual, e)
		} else if i >= len(x.Kinds)-3 {
			odd = append(odd, e)
		}
	}
	return usual, odd
}

func channelWords(x channel.Info) string {
	if x.Newest.IsZero() {
		return x.Say()
	}
	return fmt.Sprintf("%d events, newest %s ago", x.Records,
		entry.RoughSpan(time.Since(x.Newest).Truncate(time.Second)))
}

func (s *Workbench) bringJournal(b *api.Brought) (clause, name string) {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	newest, words, mend := journal.Look(ctx, "")
	o := api.Offer{Type: "journal", Words: words, Mend: mend, Bad: words != ""}
	if words == "" {
		o.Words = "the system's journal"
		if !newest.IsZero() {
			o.Words += ", newest entry " + entry.RoughSpan(time.Since(newest).Truncate(time.Second)) + " ago"
		}
	}
	b.Offers = append(b.Offers, o)
	for _, src := range s.Window.Now().Settings.Sources {
		if src.Journal() && !src.Off {
			b.Words = "the source " + src.Name + " reads it already: choose it and press e to change it, such as " +
				"what it " +
				"takes (only)"
			return "", ""
		}
	}
	return "channel journal", "journal"
}

// bringCommand offers the output of a program.
func (s *Workbench) bringCommand(b *api.Brought, typed string) (clause, name string) {
	words := strings.Fields(typed)
	if len(words) == 0 || !strings.HasPrefix(words[0], "/") {
		b.Words = "a program by its path, and its arguments: command /usr/local/bin/tide-gauge --follow"
		return "", ""
	}
	o := api.Offer{Type: "command " + typed, Words: "what it writes to its standard output; when it ends it is " +
		"started " +
		"again"}
	if _, err := exec.LookPath(words[0]); err != nil {
		o.Words, o.Bad = fmt.Sprintf("it cannot be run: %v", errors.Unwrap(err)), true
	}
	b.Offers = append(b.Offers, o)
	if o.Bad {
		return "", ""
	}
	for i, w := range words {
		words[i] = lang.Quote(w)
	}
	return "command " + strings.Join(words, " "), filepath.Base(strings.Fields(typed)[0])
}

// bringSyslog listens at a port for as long as somebody looks, and says who sends.
func (s *Workbench) bringSyslog(b *api.Brought, typed, want string) (clause, name string) {
	proto, port, _ := strings.Cut(typed, " ")
	port = strings.TrimSpace(port)
	if proto != "udp" && proto != "tcp" {
		for _, p := range []string{"udp 514", "tcp 514", "udp 5514", "tcp 5514"} {
			if strings.HasPrefix(p, typed) {
				b.Offers = append(b.Offers, api.Offer{Type: "syslog " + p})
			}
		}
		b.Words = "syslog udp or tcp, and a port: syslog udp 514, or an address of this machine: syslog tcp " +
			"192.0.2.1:514"
		return "", ""
	}
	at := port
	if !strings.Contains(at, ":") {
		at = ":" + at
	}
	_, number, err := net.SplitHostPort(at)
	if err != nil || number == "" || strings.Trim(number, "0123456789") != "" {
		b.Words = "write the port: syslog " + proto + " 514"
		return "", ""
	}
	clause = fmt.Sprintf("listen syslog %s %s", proto, lang.Quote(at))
	if taken := s.listensAt(proto, at); taken != "" {
		b.Offers = append(b.Offers, api.Offer{Type: "syslog " + proto + " " + port, Words: "the source " + taken +
			" listens there already", Bad: true})
		return "", ""
	}
	t := s.tries.try(lang.Listen{Proto: proto, Address: at})
	st, sample := t.look()
	o := api.Offer{Type: "syslog " + proto + " " + port, Words: st.Words, Mend: st.Mend, Bad: st.Words != ""}
	for _, x := range st.Senders[:min(len(st.Senders), 6)] {
		o.Detail = append(o.Detail, fmt.Sprintf("%s sends: %d so far, the last one %s ago", x.Name, x.Received,
			entry.RoughSpan(time.Since(x.Last).Truncate(time.Second))))
	}
	if o.Words == "" && len(o.Detail) == 0 {
		o.Words = "it can be opened; nobody has sent anything yet"
	} else if o.Words == "" {
		o.Words = "it can be opened"
	}
	b.Offers = append(b.Offers, o)
	b.Looked = len(sample)
	settings := s.Window.Now().Settings
	l := settings.Layout("syslog")
	if x := settings.Layout(want); x != nil {
		l = x
	}
	kindsOf(b, sample, layout.Compile(l, time.Local, settings.Secret), entry.Of(time.Now()))
	return clause, "syslog-" + proto + "-" + number
}

// listensAt is the source that listens there already.
func (s *Workbench) listensAt(proto, at string) string {
	_, port, _ := net.SplitHostPort(at)
	for _, src := range s.Window.Now().Settings.Sources {
		for _, l := range src.Listen {
			if _, p, _ := net.SplitHostPort(l.Address); p == port &&
				(l.Proto == proto || l.Proto == "tls" && proto == "tcp") && !src.Off {
				return src.Name
			}
		}
	}
	return ""
}

// tryFor is how long a port is listened at after somebody looked.
const tryFor = 10 * time.Second

// portTrial is a port at which is listened to see who sends. What comes is kept nowhere.
type portTrial struct {
	l    *listen.Listener
	stop context.CancelFunc
	done chan struct{}

	mu     sync.Mutex
	sample [][]byte
	end    *time.Timer
}

// portTrials are the ports that are tried just now. The zero value has none.
type portTrials struct {
	mu   sync.Mutex
	list map[string]*portTrial
}

// try listens at a port, until nobody has looked for a while.
func (p *portTrials) try(spec lang.Listen) *portTrial {
	p.mu.Lock()
	defer p.mu.Unlock()
	key := spec.Proto + " " + spec.Address
	if t := p.list[key]; t != nil {
		t.end.Reset(tryFor)
		return t
	}
	ctx, stop := context.WithCancel(context.Background())
	t := &portTrial{l: listen.New(spec), stop: stop, done: make(chan struct{})}
	if p.list == nil {
		p.list = map[string]*portTrial{}
	}
	p.list[key] = t
	t.end = time.AfterFunc(tryFor, func() { p.endOne(key) })
	go func() {
		defer close(t.done)
		t.l.Run(ctx)
	}()
	go func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-t.l.Ready():
				t.take()
			}
		}
	}()
	opened := time.Now()
	for t.l.Addr() == nil && t.l.State().Words == "" && time.Since(opened) < 200*time.Millisecond {
		time.Sleep(2 * time.Millisecond)
	}
	return t
}

// endOne lets go of a port that was tried, so that a source can have it.
func (p *portTrials) endOne(key string) {
	p.mu.Lock()
	t := p.list[key]
	delete(p.list, key)
	p.mu.Unlock()
	if t != nil {
		t.end.Stop()
		t.stop()
		<-t.done
	}
}

// end lets go of all ports.
func (p *portTrials) end() {
	p.mu.Lock()
	keys := slices.Collect(maps.Keys(p.list))
	p.mu.Unlock()
	for _, k := range keys {
		p.endOne(k)
	}
}

const maxSample = 500

func (t *portTrial) take() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, m := range t.l.Take(1000) {
		t.sample = append(t.sample, m.Text[:min(len(m.Text), 4096)])
	}
	if n := len(t.sample) - maxSample; n > 0 {
		t.sample = append([][]byte(nil), t.sample[n:]...)
	}
}

func (t *portTrial) look() (origin.Way, [][]byte) {
	st := t.l.State()
	t.mu.Lock()
	defer t.mu.Unlock()
	return st, append([][]byte(nil), t.sample...)
}

// wayText is the text of a source of another way in.
func wayText(name, clause, begin, layout, kind string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "source %s {\n%s\n", name, clause)
	if kind != "syslog" && kind != "plain" {
		fmt.Fprintf(&b, "begin %s\n", begin)
	}
	if layout != kind {
		fmt.Fprintf(&b, "layout %s\n", layout)
	}
	b.WriteString("}\n")
	return lang.Parse("new", []byte(b.String())).Format()
}

// wayLayouts are the layouts that entries of a kind can be divided by.
func wayLayouts(b *api.Brought, settings *lang.Settings, kind, want string) {
	b.Layout = kind
	b.Layouts = []api.LayoutFit{{Name: kind, Fits: b.Looked}}
	for _, l := range settings.Layouts {
		if l.Format == kind {
			b.Layouts = append(b.Layouts, api.LayoutFit{Name: l.Name, Fits: b.Looked})
			if l.Name == want {
				b.Layout = want
			}
		}
	}
}
