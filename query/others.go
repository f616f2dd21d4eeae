package query

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"dimlantern/core/ask"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/folder"
	"dimlantern/hosts"
	"dimlantern/intake/reread"
	"dimlantern/snapshot"

	"github.com/dustin/go-humanize/english"
	"github.com/klauspost/compress/s2"
)

// Questions go to the hosts that have the logs: each reads its own files, and sends what it has added up.

// HostQuestion is a question as a host gets it.
type HostQuestion struct {
	On     []string      `json:"on"`   // sources, of which it takes those that it has
	Text   string        `json:"text"` // all clauses but those
	Lamp   entry.Instant `json:"lamp"`
	From   entry.Instant `json:"from"`
	To     entry.Instant `json:"to"`
	Column time.Duration `json:"column,omitempty"`
	Zone   string        `json:"zone"`
	Newest int           `json:"newest,omitempty"`
	Within *ask.Within   `json:"within,omitempty"`
}

// HostAnswer is what a host has added up.
type HostAnswer struct {
	Acc    []byte        `json:"acc"` // compressed; see ask.Acc.Encode
	Bytes  int64         `json:"bytes"`
	Of     int64         `json:"of"`
	Unread []string      `json:"unread,omitempty"`
	Kept   entry.Instant `json:"kept"`
}

// Remote asks the hosts of groups something, all at once, hands their answers over as they come, and says at the end
// who was asked.
type Remote func(ctx context.Context, groups []string, q []byte,
	got func(name string, answer []byte, err error)) (names []string)

// hostsWait is how long hosts are waited for.
const hostsWait = 10 * time.Second

// OthersOf are the hosts that a question goes to besides, and the question as they get it; nil where all that it is
// about is here.
func OthersOf(settings *lang.Settings, p *ask.Plan, m ask.Moment, remote Remote) *Others {
	if p.Q.Alerts || remote == nil {
		return nil
	}
	groups := slices.Clone(p.Q.For)
	q := &HostQuestion{}
	for _, src := range settings.SourcesOf(p.Q) {
		if len(src.For) > 0 {
			q.On = append(q.On, src.Name)
			if len(p.Q.For) == 0 {
				groups = append(groups, src.For...)
			}
		}
	}
	if len(q.On) == 0 {
		return nil
	}
	var text []string
	for _, c := range p.Q.Clauses() {
		if !strings.HasPrefix(c, "on ") && !strings.HasPrefix(c, "for ") {
			text = append(text, c)
		}
	}
	q.Text, q.Lamp, q.From, q.To, q.Column = strings.Join(text, "\n"), m.Lamp, m.From, m.To, m.Column
	q.Newest, q.Within = p.Newest, m.Within
	if m.Zone != nil {
		if q.Zone = m.Zone.String(); q.Zone == "Local" {
			q.Zone = ""
		}
	}
	b, _ := json.Marshal(q) // of texts and numbers
	return &Others{Groups: groups, Question: b, Ask: remote, on: q.On, all: len(p.Q.For) == 0, moment: m}
}

// ForHost answers a question that came from a centre, with what this machine has of it.
func (l *Ledger) ForHost(ctx context.Context, b []byte) ([]byte, error) {
	sn := l.asker.Window.Now()
	x := &Asking{Store: l.asker.Store, Notes: l.notes}
	return x.forHost(ctx, b, sn.Settings, reporterName(sn), func(text string) (*lang.Question, error) {
		settings, question, err := askable(sn, text)
		if err == nil {
			x.Settings, x.Logs = settings, logs(sn, settings, question)
		}
		return question, err
	})
}

// FileLog is a file that holds what a source has said; Origin is how that is called.
type FileLog struct{ Source, Origin, Path string }

// ForHostOver answers a HostQuestion where no service runs: over files, by what a host has of settings.
func ForHostOver(ctx context.Context, b []byte, reporter string, texts []folder.Text, files []FileLog) ([]byte, error) {
	settings, _ := folder.CheckErrors(texts)
	x := &Asking{}
	return x.forHost(ctx, b, settings, reporter, func(text string) (*lang.Question, error) {
		settings, question, ds := Typed(texts, text)
		if question == nil {
			return nil, unanswerable(ds)
		}
		x.Settings = settings
		for _, src := range settings.SourcesOf(question) {
			for _, f := range files {
				if f.Source == src.Name {
					x.Logs = append(x.Logs, reread.Log{Name: f.Origin, Series: f.Path, Only: f.Path, Host: reporter,
						Source: src})
				}
			}
		}
		return question, nil
	})
}

// forHost answers a HostQuestion; typed reads the question, and finds where it looks.
func (x *Asking) forHost(ctx context.Context, b []byte, has *lang.Settings, reporter string,
	typed func(text string) (*lang.Question, error)) ([]byte, error) {
	var q HostQuestion
	if err := json.Unmarshal(b, &q); err != nil {
		return nil, errors.New("what came is no question: has the centre another version?")
	}
	var on []string
	for _, src := range has.Sources {
		if !src.Off && hosts.SentFrom(src.Pos) && slices.Contains(q.On, src.Name) {
			on = append(on, src.Name)
		}
	}
	if len(on) == 0 {
		return nil, fmt.Errorf("it has none of the sources %s", strings.Join(q.On, ", "))
	}
	question, err := typed("on " + strings.Join(on, ", ") + "\n" + q.Text)
	if err != nil {
		return nil, err
	}
	m := ask.Moment{Lamp: q.Lamp, From: q.From, To: q.To, Column: q.Column, Zone: zoneOf(question), Within: q.Within,
		Reporter: reporter}
	if q.Zone != "" {
		if z, err := time.LoadLocation(q.Zone); err == nil {
			m.Zone = z
		}
	}
	if x.Plan, err = ask.New(question, m); err != nil {
		return nil, err
	}
	x.Plan.Newest = q.Newest
	for i := range x.Logs { // the centre knows them under the host's name
		x.Logs[i].Called = hosts.OriginAt(reporter, x.Logs[i].Name)
	}
	acc, out, _, err := x.add(ctx)
	if err != nil {
		return nil, err
	}
	sum, err := acc.Encode()
	if err != nil {
		return nil, err
	}
	return json.Marshal(HostAnswer{Acc: s2.Encode(nil, sum), Bytes: out.Bytes, Of: out.Of, Unread: out.Unread,
		Kept: out.Kept})
}

// reporterName is how this machine is called in answers.
func reporterName(sn *snapshot.Snapshot) string {
	if sn.Link != nil {
		return sn.Link.Name
	}
	return sn.Host
}

// Others are the hosts that are asked besides.
type Others struct {
	Groups   []string
	Question []byte
	Ask      Remote
	// KeptThere are the logs of hosts that are kept here: they stand for hosts that do not answer, or are no more.
	KeptThere func(src *lang.Source) []KeptLog

	on     []string
	all    bool // of whatever groups
	moment ask.Moment
}

// othersAnswer is what came of hosts.
type othersAnswer struct {
	mu     sync.Mutex
	names  []string // who was asked
	sums   [][]byte
	came   map[string]error
	bytes  int64
	of     int64
	unread []string
	kept   entry.Instant
	stood  []string // hosts for which stood what is kept here
}

// missing says in words which hosts did not answer, and why.
func (o *othersAnswer) missing() []string {
	o.mu.Lock()
	defer o.mu.Unlock()
	var out []string
	why := map[string][]string{}
	for _, n := range o.names {
		err, came := o.came[n]
		switch {
		case !came:
			why["it did not answer in time"] = append(why["it did not answer in time"], n)
		case err != nil:
			why[err.Error()] = append(why[err.Error()], n)
		}
	}
	for _, words := range sorted(why) {
		names := why[words]
		if len(names) > 5 {
			out = append(out, fmt.Sprintf("without %s, such as %s: %s", english.Plural(len(names), "host", ""),
				names[0],
				words))
		} else {
			out = append(out, fmt.Sprintf("without %s: %s", strings.Join(names, ", "), words))
		}
	}
	return out
}

// all are the sums that have come.
func (o *othersAnswer) all() [][]byte {
	o.mu.Lock()
	defer o.mu.Unlock()
	return slices.Clone(o.sums)
}

// askOthers asks the hosts that are asked besides; wait waits for their answers.
func (x *Asking) askOthers(ctx context.Context, absorb func(sum []byte)) (out *othersAnswer, wait func()) {
	out = &othersAnswer{came: map[string]error{}, kept: entry.None}
	if x.Others == nil {
		return out, func() {}
	}
	ctx, end := context.WithTimeout(ctx, hostsWait)
	done := make(chan struct{})
	go func() {
		defer close(done)
		names := x.Others.Ask(ctx, x.Others.Groups, x.Others.Question, func(name string, answer []byte, err error) {
			var a HostAnswer
			var sum []byte
			if err == nil {
				if err = json.Unmarshal(answer, &a); err == nil {
					sum, err = s2.Decode(nil, a.Acc)
				}
			}
			out.mu.Lock()
			out.came[name] = err
			if err == nil {
				out.sums = append(out.sums, sum)
				out.bytes, out.of = out.bytes+a.Bytes, out.of+a.Of
				for _, u := range a.Unread {
					out.unread = append(out.unread, name+": "+u)
				}
			}
			out.mu.Unlock()
			if err == nil {
				absorb(sum)
			}
		})
		out.mu.Lock()
		defer out.mu.Unlock()
		out.names = names
	}()
	return out, func() {
		<-done
		end()
	}
}
