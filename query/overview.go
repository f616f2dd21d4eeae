package query

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/ask"
	"dimlantern/core/author"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/intake/reread"
	"dimlantern/snapshot"
	"dimlantern/store"
)

// spark is the small picture of a kept question, or of a source.
type spark struct {
	of     string
	at     time.Time
	series []float64
	from   entry.Instant // where the first number stands, of what is drawn along the axis
}

// overview is what can be asked.
func (l *Ledger) overview(
	ctx context.Context,
	sn *snapshot.Snapshot,
	q api.LedgerQuery,
	lamp entry.Instant,
) (*api.LedgerView,
	error) {
	l.end(q.Room)
	v := &api.LedgerView{Done: true, At: lamp, From: q.From, To: cmp.Or(q.Until, lamp), Kept: entry.None}
	settings := sn.Settings
	v.Complete, v.Typed = author.CompleteQuestion(settings, nil, "", 1, 0)
	for _, x := range settings.Asks {
		a := api.LedgerAsk{
			Name:  x.Name,
			Text:  strings.Join(x.Clauses(), "\n"),
			Words: strings.Join(x.Words(), " "),
			Kind:  "kept",
			Where: x.Pos.File,
		}
		switch {
		case x.BuiltIn():
			a.Kind, a.Where, a.Words = "alerts", "there from the start", x.Note
		case x.Off:
			a.Words = "switched off: " + a.Words
		case x.Note != "":
			a.Words = x.Note
		}
		v.Asks = append(v.Asks, a)
	}
	l.drawn(sn, v, lamp)
	slices.SortStableFunc(v.Asks, func(a, b api.LedgerAsk) int {
		return cmp.Compare(
			map[string]int{"kept": 0, "alerts": 1}[a.Kind],
			map[string]int{"kept": 0, "alerts": 1}[b.Kind],
		)
	})
	columns := int(max((v.To-q.From)/max(entry.Instant(q.Column), 1), 0)) + 1
	for _, src := range settings.Sources {
		if src.Off || src.Name == lang.Itself ||
			len(logs(sn, settings, &lang.Question{On: []string{src.Name}})) == 0 {
			continue
		}
		a := api.LedgerAsk{Name: src.Name, Kind: "source", Text: "on " + src.Name + "\nshow count\nper host",
			Flow: make([]int64, min(columns, MaxColumns))}
		v.Asks = append(v.Asks, a)
	}
	err := l.flows(sn, v, q)
	for i := range v.Asks {
		if a := &v.Asks[i]; a.Kind == "source" && !slices.ContainsFunc(a.Flow, func(n int64) bool { return n > 0 }) {
			l.readFlow(sn, a, q, v.To)
		}
	}
	return v, err
}

// readFlow fills in how many entries a source has of which none came while it was followed: those that
// were there before. They are counted beside, and are there a little later.
func (l *Ledger) readFlow(sn *snapshot.Snapshot, a *api.LedgerAsk, q api.LedgerQuery, to entry.Instant) {
	name := "on " + a.Name
	of := fmt.Sprint(q.Column)
	l.mu.Lock()
	defer l.mu.Unlock()
	s := l.sparks[name]
	if s != nil && s.of == of {
		for k, n := range s.series {
			at := s.from.Add(time.Duration(k) * q.Column)
			if i := int(at.Sub(q.From) / max(q.Column, 1)); at >= q.From && i < len(a.Flow) {
				a.Flow[i] += int64(n)
			}
		}
	}
	near := s != nil && s.of == of && s.from <= q.From && s.from.Add(time.Duration(len(s.series))*q.Column) >= q.From
	if near && time.Since(s.at) <= sparkFresh || l.counting || q.Column <= 0 {
		return
	}
	l.counting = true
	one := &lang.Question{On: []string{a.Name}, Show: []lang.Column{{Fn: "count"}}}
	go func() {
		series := l.series(sn, one, ask.Moment{Lamp: to, From: q.From, To: to, Column: q.Column})
		l.mu.Lock()
		defer l.mu.Unlock()
		l.counting = false
		l.sparks[name] = &spark{of: of, at: time.Now(), series: series, from: q.From}
	}()
}

// flows fills in how many entries of each source came when.
func (l *Ledger) flows(sn *snapshot.Snapshot, v *api.LedgerView, q api.LedgerQuery) error {
	flows, err := l.asker.Store.Flows(store.BucketOf(q.From), store.BucketOf(v.To))
	if err != nil {
		return err
	}
	for _, o := range sn.Origins {
		i := slices.IndexFunc(
			v.Asks,
			func(a api.LedgerAsk) bool { return a.Kind == "source" && a.Name == o.Source.Name },
		)
		if i < 0 {
			continue
		}
		for _, t := range flows[o.Name] {
			at := entry.Instant(t.Bucket * int64(store.Bucket))
			if k := int(at.Sub(q.From) / max(q.Column, 1)); at >= q.From && k < len(v.Asks[i].Flow) {
				v.Asks[i].Flow[k] += t.N
			}
		}
	}
	return nil
}

// Bounds of small pictures: how long they stand, how many periods they have, how much may be read for one.
const (
	sparkFresh = time.Minute
	sparkWide  = 24
	sparkBytes = 256 << 20
)

// drawn gives kept questions the small pictures that are there, and has those made that are not.
func (l *Ledger) drawn(sn *snapshot.Snapshot, v *api.LedgerView, lamp entry.Instant) {
	l.mu.Lock()
	defer l.mu.Unlock()
	stale := false
	for i := range v.Asks {
		a := &v.Asks[i]
		s := l.sparks[a.Name]
		if s != nil && s.of == a.Text {
			a.Spark = s.series
		}
		stale = stale || s == nil || s.of != a.Text || time.Since(s.at) > sparkFresh
	}
	if !stale || l.making {
		return
	}
	l.making = true
	asks := slices.Clone(sn.Settings.Asks)
	go func() {
		defer func() {
			l.mu.Lock()
			defer l.mu.Unlock()
			l.making = false
		}()
		for _, q := range asks {
			text := strings.Join(q.Clauses(), "\n")
			l.mu.Lock()
			s := l.sparks[q.Name]
			l.mu.Unlock()
			if q.Off || s != nil && s.of == text && time.Since(s.at) <= sparkFresh {
				continue
			}
			s = &spark{of: text, at: time.Now(), series: l.series(sn, q, ask.Moment{Lamp: lamp})}
			l.mu.Lock()
			l.sparks[q.Name] = s
			l.mu.Unlock()
		}
	}()
}

// series is the first number of a question over its span, in periods that a small picture has where the
// moment says none; nil where that would take too long.
func (l *Ledger) series(sn *snapshot.Snapshot, q *lang.Question, m ask.Moment) []float64 {
	if c := q.Columns()[0]; c.Fn == "entries" || c.Fn == "gaps" || q.Each {
		return nil
	}
	one := *q
	one.Every, one.Beside, one.Most, one.Having = nil, nil, nil, nil
	m.Zone = zoneOf(q)
	p, err := ask.New(&one, m)
	if err != nil {
		return nil
	}
	if m.Column == 0 {
		m.Column = max(p.Span.To.Sub(p.Span.From)/sparkWide, time.Second)
	}
	if p, err = ask.New(&one, m); err != nil {
		return nil
	}
	x := l.asking(sn, sn.Settings, p, m)
	if reread.Size(x.Logs) > sparkBytes {
		return nil
	}
	x.Cores = 1
	a, err := x.Answer(context.Background())
	if err != nil || len(a.Groups) == 0 {
		return nil
	}
	out := make([]float64, p.Span.Periods())
	additive := slices.Contains([]string{"count", "sum", "rate"}, q.Columns()[0].Fn)
	for i := range a.Groups {
		if i > 0 && !additive {
			break
		}
		for k, row := range a.Groups[i].Series {
			f, _ := row[0].Float()
			out[k] += f
		}
	}
	return out
}
