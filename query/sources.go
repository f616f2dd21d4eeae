package query

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"dimlantern/intake/spool"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
	"dimlantern/folder"
	"dimlantern/intake"
	"dimlantern/store"
)

// Sources is what is watched, at an instant.
func (s *Asker) Sources(_ context.Context, q api.ViewQuery) (*api.SourcesView, error) {
	q.Columns = min(max(q.Columns, 1), MaxColumns)
	q.Column = max(q.Column.Truncate(store.Bucket), store.Bucket)
	now := time.Now()
	v := &api.SourcesView{At: q.At, Column: q.Column}
	if v.At == 0 {
		v.At = entry.Of(now)
	}
	v.Until = entry.Later(q.Until, v.At)
	v.From = (v.Until/entry.Instant(q.Column) - entry.Instant(q.Columns) + 1) * entry.Instant(q.Column)
	s.listSources(v, now)
	v.Out = outOf(s.Window.Now())
	darks, err := s.Store.Darks(v.From, v.At)
	if err != nil {
		return nil, err
	}
	flows, err := s.Store.Flows(store.BucketOf(v.From), store.BucketOf(v.Until))
	if err != nil {
		return nil, err
	}
	today, err := s.sinceMidnight(v.At)
	if err != nil {
		return nil, err
	}
	last := store.BucketOf(v.At)
	for i := range v.Sources {
		for k := range v.Sources[i].Origins {
			o := &v.Sources[i].Origins[k]
			v.Sources[i].Today += today[o.Name].N
			v.Sources[i].Bytes += today[o.Name].Bytes
			o.Flow = make([]int64, q.Columns)
			for _, t := range flows[o.Name] {
				at := entry.Instant(t.Bucket * int64(store.Bucket))
				if c := int((at - v.From) / entry.Instant(q.Column)); c >= 0 && c < len(o.Flow) {
					o.Flow[c] += t.N
				}
				if t.Bucket < last && t.Bucket >= last-6 {
					o.Minute += t.N
				}
			}
			if o.Way != "" {
				k := api.KeptView{}
				k.Entries, k.Bytes, k.First = s.Store.KeptOf(spool.Origin{Source: v.Sources[i].Name, Host: o.Host,
					Way: o.Way})
				o.Kept = &k
			}
			for _, d := range darks {
				if d.Origin == o.Name {
					o.Dark = append(o.Dark, api.Span{From: d.Since, To: d.Until, Why: d.Words})
				}
			}
		}
	}
	return v, nil
}

// dayCount is how many entries each origin had from midnight up to a bucket, which hardly
// changes: only what came since is counted.
type dayCount struct {
	mu             sync.Mutex
	began          time.Time // when it was counted from midnight on
	took           time.Duration
	late           int64 // the store's count of late entries then
	midnight, upto int64 // buckets; upto is counted
	n              map[string]store.Tick
}

// While entries of long ago come, what was counted is told for so many times as long as the counting
// took, but no longer than mostStale.
const (
	staleTimes = 30
	mostStale  = 2 * time.Second
)

// sinceMidnight counts the entries of each origin since midnight, up to an instant.
func (s *Asker) sinceMidnight(at entry.Instant) (map[string]store.Tick, error) {
	clock := at.Time().In(s.Window.Now().Zone())
	midnight := store.BucketOf(entry.Of(time.Date(clock.Year(), clock.Month(), clock.Day(), 0, 0, 0, 0,
		clock.Location())))
	last := store.BucketOf(at)
	d := &s.said
	d.mu.Lock()
	defer d.mu.Unlock()
	late := s.Store.Late()
	stale := d.late != late && time.Since(d.began) > min(staleTimes*d.took, mostStale)
	if d.n == nil || d.midnight != midnight || d.upto > last || stale {
		d.began, d.late = time.Now(), late
		defer func() { d.took = time.Since(d.began) }()
		d.midnight, d.upto, d.n = midnight, midnight-1, map[string]store.Tick{}
	}
	if closed := last - store.StillOpen; closed > d.upto {
		flows, err := s.Store.Flows(d.upto+1, closed)
		if err != nil {
			return nil, err
		}
		sum(d.n, flows)
		d.upto = closed
	}
	out := maps.Clone(d.n)
	flows, err := s.Store.Flows(d.upto+1, last)
	sum(out, flows)
	return out, err
}

// sum adds up what origins said.
func sum(into map[string]store.Tick, flows map[string][]store.Tick) {
	for name, ticks := range flows {
		x := into[name]
		for _, t := range ticks {
			x.N, x.Bytes = x.N+t.N, x.Bytes+t.Bytes
		}
		into[name] = x
	}
}

// listSources copies what only the service knows.
func (s *Asker) listSources(v *api.SourcesView, now time.Time) {
	sn := s.Window.Now()
	empty := sn.Empty
	for _, src := range sn.Settings.Sources {
		if src.Name == lang.Itself && empty[src.Name] != "" {
			continue
		}
		x := api.SourceView{Name: src.Name, File: src.Pos.File, Line: src.Pos.Line, Off: src.Off, Where: src.Where(),
			Files:  src.Files,
			Layout: src.LayoutName(), Begin: beginWords(src.Begin), Words: empty[src.Name]}
		if w, ok := sn.Ways[src.Name]; ok {
			x.Way, x.Words, x.Mend = &w, w.State.Words, w.State.Mend
		}
		if src.Off {
			x.Words, x.Mend = "off: it is not read; its open alerts stay as they are", "take off out of the source"
		}
		for _, u := range sn.Unseen {
			if u.Source.Name == src.Name && x.Words == "" {
				x.Words = u.Words
			}
			if u.Source.Name == src.Name && x.Mend == "" {
				x.Mend = u.Mend
			}
		}
		x.Cost = sourceCost(src, sn.Spent)
		for _, r := range sn.Settings.RulesFor(src.Name) {
			x.Rules = append(x.Rules, r.Name)
		}
		for _, o := range sn.Origins {
			if o.Source.Name == src.Name {
				st := sn.OriginState(o, now)
				x.Origins = append(x.Origins, api.OriginView{Name: o.Name, Host: o.Host, Path: o.Series, Way: o.Way,
					State: st, Blind: st.Condition.Blind(),
					Entries: o.Entries(), Newest: o.Reached(), Began: o.Began(), Read: o.Read()})
			}
		}
		if x.Way != nil && x.Words == "" {
			x.Words = wayWords(*x.Way, len(x.Origins))
		}
		v.Sources = append(v.Sources, x)
	}
}

func beginWords(b lang.Begin) string {
	switch b.How {
	case lang.BeginOldest:
		return "with the oldest entry"
	case lang.BeginAgo:
		return entry.Span(b.Ago) + " before it was first seen"
	case lang.BeginAt:
		return "at " + b.At.String()
	}
	return "now, when it was first seen"
}

func NoOrigin(name string) error {
	return &api.Problem{Code: api.Unknown, What: "no origin is called " + name}
}

// EntriesSize is how much of the end of a log is looked through.
const EntriesSize = 1 << 20

// Entries are the newest entries of an origin, up to an instant.
func (s *Asker) Entries(_ context.Context, q api.EntriesQuery) (*api.Entries, error) {
	sn := s.Window.Now()
	settings := sn.Settings
	o := sn.Origin(q.Origin)
	if o == nil {
		return nil, NoOrigin(q.Origin)
	}
	src, skew, paths := o.Source, o.Skew(), []string{o.Newest()} // the likeliest first
	if q.At != 0 {
		paths = o.Written(q.At.Add(-skew))
	}
	at := q.At
	if at == 0 {
		at = entry.Of(time.Now().Add(time.Hour))
	}
	l := settings.Layout(src.LayoutName())
	plan := match.NewPlan(settings, src, nil, time.Local)
	out := &api.Entries{Origin: q.Origin, Layout: "plain", Values: map[string]int{}}
	if l != nil {
		out.Layout, out.Named = l.Name, l.Format != ""
		for _, f := range shownFields(l) {
			if f != "text" && (l.Time == nil || !slices.Contains(l.Time.Fields, f)) {
				out.Fields = append(out.Fields, f)
			}
		}
	}
	for _, f := range src.Fields {
		if !slices.Contains(out.Fields, f.Name) {
			out.Fields = append(out.Fields, f.Name)
		}
	}
	for _, path := range paths[:min(len(paths), 3)] {
		text, err := intake.Tail(path, plan, at.Add(-skew), EntriesSize)
		if err != nil {
			out.Words = fmt.Sprintf("%s cannot be read: %v", filepath.Base(path), folder.Reason(err))
			if errors.Is(err, fs.ErrNotExist) {
				s.remembered(out, plan, at, q)
			}
			return out, nil
		}
		_, named, _ := strings.Cut(o.Name, ":")
		given := plan.Constants(named, o.Host)
		if fillEntries(out, text, intake.HeaderOf(path, plan), plan, given, at, skew, q); out.Looked > 0 {
			break // else what is asked for lies before what this one holds
		}
	}
	if len(out.Lines) == 0 && out.Words == "" {
		out.Words = "no entry has come yet"
		if q.Filter != "" {
			out.Words = "no entry here has " + q.Filter
		} else if q.Misfits {
			out.Words = "every entry here fits"
		}
	}
	return out, nil
}

// remembered fills in what is known of a log whose file is gone: what was kept of it as
// evidence.
func (s *Asker) remembered(e *api.Entries, plan *match.Plan, at entry.Instant, q api.EntriesQuery) {
	hits, err := s.Store.HitsFrom(q.Origin, at, max(q.Lines, 1))
	if err != nil || len(hits) == 0 {
		e.Words = "the file is gone, and nothing of it was kept as evidence"
		return
	}
	e.Words = "the file is gone: these were kept as evidence, whatever else it said is lost"
	d := &layout.Divider{Layout: plan.Layout}
	for _, h := range hits {
		x, shown := plan.Shown(d, []byte(h.Text), h.At)
		if !x.Hides() {
			shown = h.Text
		}
		v := entryView(plan, shown, h.At, &x)
		if e.Looked++; !(q.Misfits && v.Fits) {
			e.Lines = append(e.Lines, v)
		}
	}
	e.Shown = len(e.Lines)
}

// shownFields are the fields of a layout, those first that say most.
func shownFields(l *lang.Layout) []string {
	first := map[string][]string{"syslog": {"host", "program", "level"}, "journal": {"host", "program", "level"},
		"event-xml": {"event", "level", "host"}}[l.Format]
	out := slices.Clone(first)
	for _, f := range l.Fields() {
		if !slices.Contains(first, f) && !(l.Format != "" && f == "at") {
			out = append(out, f)
		}
	}
	return out
}

func fillEntries(e *api.Entries, text []byte, header string, plan *match.Plan, given []entry.Field, at entry.Instant,
	skew time.Duration, q api.EntriesQuery) {
	d := &layout.Divider{Layout: plan.Layout, Header: header}
	last := entry.None
	different := map[string]map[string]bool{}
	words := strings.Fields(strings.ToLower(q.Filter))
	var all []api.EntryView
	plan.Entries(text, func(line []byte) {
		if plan.Layout.Headed() && d.See(line) {
			return
		}
		x, shown := plan.Shown(d, line, at)
		x.Fields = match.Given(x.Fields, given)
		own := last
		if x.Timed {
			own = x.At.Add(skew)
		}
		v := entryView(plan, shown, own, &x)
		last = v.At
		if v.At != entry.None && v.At > at {
			return
		}
		for _, f := range x.Fields {
			if different[f.Name] == nil {
				different[f.Name] = map[string]bool{}
			}
			if len(different[f.Name]) < 1000 {
				different[f.Name][f.Value] = true
			}
		}
		e.Looked++
		if HasAll(strings.ToLower(v.Raw), words) && !(q.Misfits && v.Fits) {
			all = append(all, v)
		}
	})
	for _, f := range e.Fields {
		e.Values[f] = len(different[f])
	}
	slices.Reverse(all)
	e.Shown = len(all)
	e.Lines = all[:min(len(all), max(q.Lines, 1))]
}

// entryView is an entry as it is shown that was divided, and of which what nobody is to see is
// masked.
func entryView(plan *match.Plan, shown string, at entry.Instant, x *layout.Division) api.EntryView {
	v := api.EntryView{At: at, Raw: strings.ToValidUTF8(shown[:min(len(shown), 8192)], "\uFFFD"),
		Fits: x.Fits || plan.Layout.Plain(), Fields: slices.Clone(x.Fields)}
	if v.Text = v.Raw; x.Fits && len(x.Fields) > 0 && plan.Layout.Divides() {
		v.Text = "" // a layout without a text has said it all
	}
	for _, f := range x.Fields {
		if f.Name == "text" {
			v.Text = f.Value
		}
	}
	return v
}

// HasAll tells whether a text has all of some words.
func HasAll(s string, words []string) bool {
	for _, w := range words {
		if !strings.Contains(s, w) {
			return false
		}
	}
	return true
}
