package query

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/snapshot"
	"dimlantern/store"
)

// MaxColumns bounds the width of a view.
const MaxColumns = 1000

// View is the state of the world at an instant, and what led to it. What happened is asked of
// the store; what a live key has now, of the engine.
func (s *Asker) View(ctx context.Context, q api.ViewQuery) (*api.View, error) {
	q.Columns = min(max(q.Columns, 1), MaxColumns)
	q.Column = max(q.Column.Truncate(store.Bucket), store.Bucket)
	now := entry.Of(time.Now())
	v := &api.View{May: api.RightsOf(ctx).Most(), Now: now, At: q.At, Live: q.At == 0, Column: q.Column}
	if v.Live {
		v.At = now
	}
	v.Until = entry.Later(q.Until, v.At)
	v.From = (v.Until/entry.Instant(q.Column) - entry.Instant(q.Columns) + 1) * entry.Instant(q.Column)
	x := &looking{s: s, sn: s.Window.Now(), v: v, q: q, rows: map[int64]*api.Row{}}
	x.live()
	v.First = s.Store.First()
	if err := x.past(); err != nil {
		return nil, err
	}
	x.shadows()
	x.hushed()
	x.hushedByHand()
	x.bands()
	return v, nil
}

// looking is a View being made.
type looking struct {
	s        *Asker
	sn       *snapshot.Snapshot
	v        *api.View
	q        api.ViewQuery
	rules    map[string]*lang.Rule
	hushes   []*lang.Hush
	byHand   []api.ByHand
	taken    map[string]string
	zone     *time.Location // in which days begin
	counts   map[string]int // open alert → hits
	exact    map[string]engine.Near
	origins  map[string][]string // of live keys
	rows     map[int64]*api.Row
	stirring []*api.Row
}

// live copies what only the service knows.
func (x *looking) live() {
	s, v := x.sn, x.v
	v.Settings, v.Where, v.Reading = s.House.Settings, s.Where, s.Reading || s.Catching
	x.rules, x.counts, x.exact, x.origins = map[string]*lang.Rule{}, map[string]int{}, map[string]engine.Near{},
		map[string][]string{}
	x.hushes, x.byHand, x.taken = s.Settings.Hushes, s.Hushes, s.Taken
	for _, r := range s.Settings.EveryRule() {
		x.rules[r.Name] = r
		x.zone = r.Zone
		if !r.Off && !snapshot.BuiltIn(r) {
			v.Rules++
		}
	}
	for _, src := range s.Settings.Sources {
		if !src.Off && src.Name != lang.Itself {
			v.Sources++
		}
	}
	v.ByHand = s.Settings.ByHand
	v.Shared = s.Settings.Hosts.IsCentre() || s.Link != nil
	v.Busy = x.s.Busy()
	v.Trouble = s.Troubles()
	for _, n := range s.Notices {
		if v.Now.Sub(n.At) < 20*time.Second {
			v.Notices = append(v.Notices, n)
		}
	}
	for _, src := range s.Settings.Sources {
		if src.Kept() && !src.Off && s.Empty[src.Name] != "" &&
			!slices.ContainsFunc(s.Unseen, func(u snapshot.Unseen) bool { return u.Source == src }) {
			v.Waiting = append(v.Waiting, src.Name+": nothing has come yet")
		}
	}
	sort.Strings(v.Waiting)
	for _, o := range s.Origins {
		if o.Source.Name == lang.Itself {
			continue
		}
		v.Origins++
		v.Behind += o.Behind()
		if o.Condition.Blind() && v.Live {
			v.Blind = append(v.Blind, api.Row{Rule: o.Source.Name, Key: []string{shortName(o.Name, o.Host)},
				Origin: o.Name,
				Words:  o.Words, Mend: o.Mend, Note: string(o.Condition), Since: entry.Of(o.Since)})
		}
	}
	if !v.Live {
		return
	}
	s.Engine.Keys(func(k *engine.KeyView) bool {
		x.origins[keyName(k.Rule, k.Key)] = k.Origins
		if k.Alert != "" {
			x.counts[k.Alert] = k.Count
			return true
		}
		r := x.rules[k.Rule]
		if r == nil {
			return true
		}
		if near := k.Near(r, v.At); near.Have > 0 {
			x.exact[keyName(k.Rule, k.Key)] = near
		}
		return true
	})
	if s.Hosts == nil {
		return
	}
	for i := range s.Hosts.List {
		h := &s.Hosts.List[i]
		for _, near := range h.State.Stirring {
			x.exact[keyName(near.Rule, append(slices.Clone(near.Key), h.Name))] = near.Near
		}
	}
}

// shortName is how an origin is called in a row: its host, where that tells it
// from others, and the name of its file.
func shortName(origin, host string) string {
	return filepath.Base(strings.TrimPrefix(origin, host+":"))
}

func keyName(rule string, key []string) string { return rule + "\x00" + strings.Join(key, "\x00") }

// past asks the store for the rows and their lifelines.
func (x *looking) past() error {
	v, st := x.v, x.s.Store
	from, to := store.BucketOf(v.From), store.BucketOf(v.At)
	marks, err := st.Marks(from, to)
	if err != nil {
		return err
	}
	keys, err := st.KeysOf(marks)
	if err != nil {
		return err
	}
	for _, k := range keys {
		x.row(k.ID, k.Rule, k.Key)
	}
	alerts, err := st.Alerts(v.From, v.At)
	if err != nil {
		return err
	}
	steps, err := st.Steps(v.From, v.At)
	if err != nil {
		return err
	}
	byAlert := map[string][]api.Step{}
	for _, t := range steps {
		if t.At <= v.At {
			byAlert[t.Alert] = append(byAlert[t.Alert], api.Step{At: t.At, Severity: t.Severity})
		}
	}
	for _, a := range alerts {
		x.alert(a, byAlert[a.Alert])
	}
	late := map[int64]map[int64]int{}
	for _, m := range marks {
		r := x.rows[m.KeyID]
		if r == nil {
			continue
		}
		if c := x.column(entry.Instant(m.Bucket * int64(store.Bucket))); c >= 0 && c < len(r.Life.Hits) {
			r.Life.Hits[c] += m.N
		}
		if v.Live { // what counts now is known exactly
			continue
		}
		if late[m.KeyID] == nil {
			late[m.KeyID] = map[int64]int{}
		}
		late[m.KeyID][m.Bucket] += m.N
	}
	for id, r := range x.rows {
		x.stir(r, late[id])
	}
	if err := x.dark(); err != nil {
		return err
	}
	return x.tide()
}

func (x *looking) column(t entry.Instant) int {
	if t < x.v.From {
		return -1
	}
	return int(t.Sub(x.v.From) / x.q.Column)
}

func (x *looking) row(id int64, rule string, key []string) *api.Row {
	r := x.rows[id]
	if r == nil {
		r = &api.Row{Rule: rule, Key: key, Raised: entry.None, Cleared: entry.None, Since: entry.None}
		r.Life.Hits = make([]int, x.q.Columns)
		x.rows[id] = r
	}
	return r
}

// alert adds an alert to its row. The row shows the newest one.
func (x *looking) alert(a store.Alert, steps []api.Step) {
	v := x.v
	r := x.row(a.KeyID, a.Rule, a.Key)
	span := api.Span{From: a.Raised, To: a.Cleared, Why: a.Why, Steps: steps}
	if a.Cleared != entry.None && a.Cleared > v.At {
		span.To, span.Why = entry.None, ""
	}
	r.Life.Alerts = append(r.Life.Alerts, span)
	if r.Raised != entry.None && r.Raised > a.Raised {
		return
	}
	r.Alert, r.Raised, r.Cleared, r.Count = a.Alert, a.Raised, span.To, a.Count
	if n, ok := x.counts[a.Alert]; ok {
		r.Count = n
	}
	if len(steps) > 0 {
		r.Severity = 0
		for _, t := range steps {
			r.Severity = max(r.Severity, t.Severity)
		}
	}
	if a.Cleared == entry.None || a.Cleared > v.At {
		r.Note = "open " + spanWords(v.At.Sub(a.Raised))
	} else {
		r.Note = "lasted " + spanWords(a.Cleared.Sub(a.Raised))
	}
}

// stir tells whether a row without an open alert is near a threshold.
func (x *looking) stir(r *api.Row, marks map[int64]int) {
	if r.Alert != "" && r.Cleared == entry.None {
		if !x.v.Live { // what had been counted by then
			n := 0
			for b, c := range marks {
				if t := entry.Instant(b * int64(store.Bucket)); t.Add(store.Bucket) > r.Raised.Add(-time.Minute) &&
					t <= x.v.At {
					n += c
				}
			}
			r.Count = max(1, min(r.Count, n))
		}
		return
	}
	var best engine.Near
	if x.v.Live {
		best = x.exact[keyName(r.Rule, r.Key)]
	} else if rule := x.rules[r.Rule]; rule != nil {
		best = engine.NearestRaise(rule, func(in time.Duration) int {
			n := 0
			for b, c := range marks {
				t := entry.Instant(b * int64(store.Bucket))
				if t <= x.v.At && (in == 0 || x.v.At.Sub(t) < in) && (r.Cleared == entry.None || t > r.Cleared) {
					n += c
				}
			}
			return n
		})
	}
	if best.Have == 0 {
		return
	}
	r.Have, r.Need = best.Have, best.Need
	r.Note = fmt.Sprintf("%d of %d", best.Have, best.Need)
	if best.In > 0 {
		r.Note += " in " + entry.Span(best.In)
	}
	x.stirring = append(x.stirring, r)
}

// shadows finds out when an alert stood in the shadow of a bigger one.
func (x *looking) shadows() {
	byRule := map[string][]*api.Row{}
	for _, r := range x.rows {
		byRule[r.Rule] = append(byRule[r.Rule], r)
	}
	for _, r := range x.rows {
		rule := x.rules[r.Rule]
		if rule == nil {
			continue
		}
		r.Numbers = len(rule.Whens()) > 0
		if len(r.Life.Alerts) == 0 || len(r.Key) != len(rule.Per) {
			continue
		}
		for _, u := range rule.Unless {
			bigger := x.rules[u.Rule]
			if bigger == nil {
				continue
			}
			for _, b := range byRule[u.Rule] {
				if !lang.SameValues(u.Same, rule, r.Key, bigger, b.Key) {
					continue
				}
				for _, a := range b.Life.Alerts {
					r.Life.Untold = append(r.Life.Untold,
						api.Span{From: a.From, To: a.To, Why: "in the shadow of " + u.Rule})
					if a.To == entry.None && r.Alert != "" && r.Cleared == entry.None {
						r.Untold = "shadowed"
					}
				}
			}
		}
		sort.Slice(r.Life.Untold, func(i, j int) bool { return r.Life.Untold[i].From < r.Life.Untold[j].From })
	}
}

// hushed finds out when the alerts of a row were hushed by the settings.
func (x *looking) hushed() {
	for _, h := range x.hushes {
		if h.Off {
			continue
		}
		spans := x.hushSpans(h)
		for _, r := range x.rows {
			rule := x.rules[r.Rule]
			if len(spans) == 0 || len(r.Life.Alerts) == 0 || rule == nil || !trial.Hushes(h, rule, r.Key) {
				continue
			}
			r.Life.Untold = append(r.Life.Untold, spans...)
			if last := spans[len(spans)-1]; r.Alert != "" && r.Cleared == entry.None && last.To == entry.None {
				r.Untold = "hushed"
			}
		}
	}
}

// hushedByHand finds out which alerts people have hushed, and who has taken which.
func (x *looking) hushedByHand() {
	for _, r := range x.rows {
		rule := x.rules[r.Rule]
		if rule == nil || len(r.Life.Alerts) == 0 {
			continue
		}
		if x.v.Live && r.Cleared == entry.None {
			r.Taken = x.taken[r.Alert]
		}
		for i := range x.byHand {
			h := &x.byHand[i]
			if h.Since > x.v.At || !h.Covers(rule, r.Alert, r.Rule, rule.Per, r.Key) {
				continue
			}
			span := api.Span{From: h.Since, To: entry.None, Why: "hushed by " + h.By}
			if h.Until != 0 && h.Until <= x.v.At {
				span.To = h.Until
			}
			r.Life.Untold = append(r.Life.Untold, span)
			if r.Cleared == entry.None && span.To == entry.None {
				r.Untold = "hushed by " + h.By
			}
		}
	}
}

// hushSpans are the stretches of the view in which a hush holds, to a column; the last one
// has no end where it holds at the lamp.
func (x *looking) hushSpans(h *lang.Hush) []api.Span {
	var out []api.Span
	open := false
	for k := range x.q.Columns + 1 {
		at := min(x.v.From.Add(time.Duration(k)*x.q.Column), x.v.At)
		holds := trial.HushHolds(h, at, x.zone)
		switch {
		case holds && !open:
			out = append(out, api.Span{From: at, To: entry.None, Why: "hushed: " + h.Name})
		case !holds && open:
			out[len(out)-1].To = at
		}
		open = holds
		if at == x.v.At {
			break
		}
	}
	return out
}

// dark adds what could not be seen.
func (x *looking) dark() error {
	v := x.v
	darks, err := x.s.Store.Darks(v.From, v.At)
	if err != nil {
		return err
	}
	byOrigin := map[string][]api.Span{}
	for _, d := range darks {
		byOrigin[d.Origin] = append(byOrigin[d.Origin], api.Span{From: d.Since, To: d.Until, Why: d.Words})
		if !v.Live && (d.Until == entry.None || d.Until > v.At) {
			host, _, _ := strings.Cut(d.Origin, ":")
			v.Blind = append(v.Blind, api.Row{Rule: "", Key: []string{shortName(d.Origin, host)}, Origin: d.Origin,
				Note: d.Words, Since: d.Since})
		}
	}
	for i := range v.Blind {
		r := &v.Blind[i]
		r.Life.Hits = make([]int, x.q.Columns)
		r.Life.Dark = byOrigin[r.Origin]
		if len(r.Life.Dark) == 0 {
			r.Life.Dark = []api.Span{{From: r.Since, To: entry.None}}
		}
		r.Note = r.Note + " " + spanWords(v.At.Sub(r.Since))
	}
	if len(byOrigin) == 0 {
		return nil
	}
	for id, r := range x.rows {
		origins, known := x.origins[keyName(r.Rule, r.Key)]
		if !known {
			if origins, err = x.s.originsOf(id); err != nil {
				return err
			}
		}
		if len(origins) == 1 {
			r.Life.Dark = byOrigin[origins[0]]
		}
	}
	return nil
}

// tide counts the entries by column.
func (x *looking) tide() error {
	v := x.v
	flow, err := x.s.Store.Flow(store.BucketOf(v.From), store.BucketOf(v.Until))
	if err != nil {
		return err
	}
	v.Tide = make([]int64, x.q.Columns)
	last := store.BucketOf(v.At)
	for b, n := range flow {
		if c := x.column(entry.Instant(b * int64(store.Bucket))); c >= 0 && c < len(v.Tide) {
			v.Tide[c] += n
		}
		if b < last && b >= last-6 {
			v.Minute += n
		}
	}
	for _, n := range v.Tide {
		v.Peak = max(v.Peak, n*int64(time.Minute)/int64(x.q.Column))
	}
	return nil
}

// bands sorts the rows into their bands.
func (x *looking) bands() {
	v := x.v
	for _, r := range x.rows {
		sort.Slice(r.Life.Alerts, func(i, j int) bool { return r.Life.Alerts[i].From < r.Life.Alerts[j].From })
		switch {
		case r.Alert != "" && r.Cleared == entry.None:
			v.Open = append(v.Open, *r)
		case slices.Contains(x.stirring, r):
			v.Stirring = append(v.Stirring, *r)
		case r.Alert != "":
			v.Over = append(v.Over, *r)
		}
	}
	byName := func(a, b api.Row) int {
		if c := strings.Compare(a.Rule, b.Rule); c != 0 {
			return c
		}
		return slices.Compare(a.Key, b.Key)
	}
	slices.SortFunc(v.Open, func(a, b api.Row) int {
		switch {
		case a.Severity != b.Severity:
			return int(b.Severity) - int(a.Severity)
		case a.Raised != b.Raised:
			return compareInstants(a.Raised, b.Raised)
		}
		return byName(a, b)
	})
	slices.SortFunc(v.Stirring, func(a, b api.Row) int {
		if c := (a.Need - a.Have) - (b.Need - b.Have); c != 0 {
			return c
		}
		return byName(a, b)
	})
	slices.SortFunc(v.Over, func(a, b api.Row) int {
		if a.Cleared != b.Cleared {
			return compareInstants(b.Cleared, a.Cleared)
		}
		return byName(a, b)
	})
	slices.SortFunc(v.Blind, byName)
}

func compareInstants(a, b entry.Instant) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

// spanWords writes a span as people say it: its largest unit, or two where the
// first is small.
func spanWords(d time.Duration) string {
	switch d = max(d, 0); {
	case d < time.Minute:
		return fmt.Sprintf("%ds", int(d/time.Second))
	case d < 100*time.Minute:
		return fmt.Sprintf("%dm", int(d/time.Minute))
	case d < 48*time.Hour:
		if m := int(d/time.Minute) % 60; m > 0 {
			return fmt.Sprintf("%dh%02dm", int(d/time.Hour), m)
		}
		return fmt.Sprintf("%dh", int(d/time.Hour))
	}
	return fmt.Sprintf("%dd", int(d/(24*time.Hour)))
}
