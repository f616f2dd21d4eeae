package workbench

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/core/trial"
	"dimlantern/hosts"

	"github.com/dustin/go-humanize/english"
	"github.com/klauspost/compress/s2"
)

// What is for hosts is tried on what their logs have said: each sends the newest part of it. Masked parts are taken out
// there.

// Bounds of what hosts send: of all together, and of one, which is compressed and has to fit into a message.
const (
	mostOfHosts   = 256 << 20
	mostOfHost    = 16 << 20
	mostSent      = 5 << 20
	waitsForHosts = 4 * time.Second
	othersStale   = time.Minute
)

// ForHost answers a centre that asks for a sample of the logs that its sources name here.
func (s *Workbench) ForHost(ctx context.Context, b []byte) ([]byte, error) {
	var q hosts.SampleQuestion
	if err := json.Unmarshal(b, &q); err != nil {
		return nil, errors.New("what came asks for no sample: has the centre another version?")
	}
	sn := s.Window.Now()
	asks := &lang.Rule{}
	for _, src := range sn.Settings.Sources {
		if !src.Off && hosts.SentFrom(src.Pos) && slices.Contains(q.On, src.Name) {
			asks.On = append(asks.On, src.Name)
		}
	}
	if len(asks.On) == 0 {
		return nil, fmt.Errorf("it has none of the sources %s yet", strings.Join(q.On, ", "))
	}
	most := min(q.Sample, mostOfHost)
	inputs, done := sn.Again(sn.Settings, q.From, []*lang.Rule{asks}, most, true)
	defer done()
	out := hosts.SampleAnswer{Logs: []hosts.SentLog{}}
	left := mostSent
	for i, in := range inputs {
		d := &trial.Said{Input: *in}
		d.Files = nil
		text, cut, err := tailOf(ctx, in.Files, most/int64(len(inputs)), func(int) {})
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			continue // what cannot be read is told in the room sources
		}
		d.Data = text
		if l := sn.Settings.Layout(in.Source.LayoutName()); l != nil && len(l.Masks) > 0 {
			d.Data = masked(sn.Settings, d)
		}
		packed := s2.EncodeBetter(nil, d.Data)
		for share := left / (len(inputs) - i); len(packed) > share && len(d.Data) > 0; cut = true {
			d = d.Newest(d.Size() / 2)
			packed = s2.EncodeBetter(nil, d.Data)
		}
		left -= len(packed)
		out.Cut = out.Cut || cut
		out.Logs = append(out.Logs, hosts.SentLog{Source: in.Source.Name, Path: in.Path, Host: in.Host,
			Origin: in.Origin, Near: in.Near, Header: in.Header, Skew: in.Skew, Text: packed})
	}
	return json.Marshal(out)
}

// masked is the text of a log as anybody may see it.
func masked(settings *lang.Settings, d *trial.Said) []byte {
	plan := match.NewTaking(settings, d.Source, nil, nil, time.Local)
	r := match.NewTaker(plan, d.Origin, d.Host)
	r.Skew, r.Near, r.Encoding = d.Skew, d.Near, plan.EncodingOf(d.Data[:min(len(d.Data), 256)])
	if d.Header != "" {
		r.SetHeader(d.Header)
	}
	var out bytes.Buffer
	r.Take = func(e *entry.Entry, _ int64) {
		out.WriteString(e.Raw)
		out.WriteByte('\n')
	}
	if len(d.Data) > 0 {
		r.Begin(d.Data)
		r.Scan(d.Data, 0, d.Near, nil, nil)
	}
	return out.Bytes()
}

// sampleOfHosts asks hosts for what the sources of a rule have said there: those that the rule is for, or else
// those that the sources are for.
func (s *Workbench) sampleOfHosts(ctx context.Context, r *lang.Rule, sources []*lang.Source, from entry.Instant) (
	said []*trial.Said, cut bool, without []string) {
	q := hosts.SampleQuestion{Sample: mostOfHost, From: from}
	var groups []string
	for _, src := range sources {
		if len(src.For) > 0 {
			q.On = append(q.On, src.Name)
			groups = append(groups, src.For...)
		}
	}
	if len(r.For) > 0 {
		groups = r.For
	}
	if s.Remote == nil || len(q.On) == 0 {
		return nil, false, nil
	}
	if n := s.hostsOf(groups); n > 0 {
		q.Sample = max(min(mostOfHost, mostOfHosts/int64(n)), 64<<10)
	}
	s.does.Store("reading the sample on the hosts")
	b, _ := json.Marshal(q) // of texts and numbers
	ctx, end := context.WithTimeout(ctx, waitsForHosts)
	defer end()
	var mu sync.Mutex
	came, why := map[string]bool{}, map[string][]string{}
	names := s.Remote(ctx, groups, b, func(name string, answer []byte, err error) {
		var a hosts.SampleAnswer
		if err == nil {
			err = json.Unmarshal(answer, &a)
		}
		mu.Lock()
		defer mu.Unlock()
		if came[name] = true; err != nil {
			why[err.Error()] = append(why[err.Error()], name)
			return
		}
		cut = cut || a.Cut
		for _, l := range a.Logs {
			src := slices.IndexFunc(sources, func(x *lang.Source) bool { return x.Name == l.Source })
			text, err := s2.Decode(nil, l.Text)
			if src < 0 || err != nil {
				continue
			}
			said = append(said, &trial.Said{Input: trial.Input{Source: sources[src], Path: l.Path, Host: l.Host,
				Origin: hosts.OriginAt(name, l.Origin), Near: l.Near, Header: l.Header, Skew: l.Skew, Data: text,
				Reporter: name}})
		}
	})
	for _, n := range names {
		if !came[n] {
			const words = "it did not answer in time"
			why[words] = append(why[words], n)
		}
	}
	slices.SortFunc(said, func(a, b *trial.Said) int { return strings.Compare(a.Origin, b.Origin) })
	for words, list := range why {
		slices.Sort(list)
		if len(list) > 3 {
			without = append(without, fmt.Sprintf("Tried without the logs of %s, such as %s: %s.",
				english.Plural(len(list), "host", ""), list[0], words))
		} else {
			without = append(without, fmt.Sprintf("Tried without the logs of %s: %s.",
				english.OxfordWordSeries(list, "and"), words))
		}
	}
	slices.Sort(without)
	return said, cut, without
}

// hostsOf is how many hosts are in one of some groups.
func (s *Workbench) hostsOf(groups []string) (n int) {
	if known := s.Window.Now().Hosts; known != nil {
		for i := range known.List {
			if slices.ContainsFunc(known.List[i].Groups, func(g string) bool { return slices.Contains(groups, g) }) {
				n++
			}
		}
	}
	return n
}
