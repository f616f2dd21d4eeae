package query

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"dimlantern/api"
	"dimlantern/core/ask"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/folder"
	"dimlantern/intake/reread"
	"dimlantern/store"
)

// Typed reads a question that was typed: a name, or clauses. Where it cannot be, the diagnostics say
// why; the question is nil then.
func Typed(texts []folder.Text, text string) (*lang.Settings, *lang.Question, []lang.Diagnostic) {
	name := strings.TrimSpace(text)
	settings, q, ds := folder.CheckTyped(texts, text)
	if lang.IsName(name) && settings.Ask(name) != nil {
		return settings, settings.Ask(name), nil
	}
	return settings, q, ds
}

// Asking is a question that is asked of logs, or of the alerts that were.
type Asking struct {
	Settings *lang.Settings
	Plan     *ask.Plan
	Logs     []reread.Log
	Store    *store.Store // nil where no service has run
	Notes    *reread.Notes
	Cores    int
	// Each gets the answer so far, by now and then, and how much of the bytes have been read; nil is
	// that nobody wants it. An answer that is given is not changed any more.
	Each func(a *ask.Answer, read, of int64)
	// Others are hosts that are asked besides; nil is none.
	Others *Others
}

// Asked is what a question gave, and what it rests on besides.
type Asked struct {
	*ask.Answer
	Bytes, Of int64
	Unread    []string
	Blind     []store.Dark // of the logs that were asked, within the span
	Kept      entry.Instant
	Untimed   map[string]entry.Instant // files whose entries have no time, and when they were written
	Twice     []string                 // files that count in two sources
	Took      time.Duration
	Hosts     int      // that were asked besides
	Missing   []string // in words, those of them that did not answer
	Stood     []string // hosts that did not answer, or are no more, for which stood what is kept here
}

// showEvery is how long an answer goes on before it is shown once more.
const showEvery = 150 * time.Millisecond

// mostAgain is how often a question is answered anew since files have gone while they were to be read.
const mostAgain = 3

// Answer answers it.
func (x *Asking) Answer(ctx context.Context) (*Asked, error) {
	acc, out, unseen, err := x.add(ctx)
	if err != nil {
		return nil, err
	}
	out.Answer = acc.Answer(unseen)
	return out, nil
}

// add adds up what it is about, with what hosts have that are asked besides.
func (x *Asking) add(ctx context.Context) (*ask.Acc, *Asked, ask.Unseen, error) {
	began := time.Now()
	out := &Asked{Kept: entry.None}
	total := ask.NewAcc(x.Plan)
	var mu sync.Mutex // of total
	if x.Plan.Q.Alerts {
		err := x.alerts(total)
		out.Took = time.Since(began)
		return total, out, ask.Unseen{Kept: entry.None}, err
	}
	unseen, err := x.unseen(out)
	if err != nil {
		return nil, nil, unseen, err
	}
	shown, pause := time.Now(), showEvery
	show := func(read, of int64) { // the caller holds mu
		if x.Each != nil && time.Since(shown) > pause {
			began := time.Now()
			x.Each(total.Answer(unseen), read, of)
			shown, pause = time.Now(), max(showEvery, 5*time.Since(began)) // most of the time goes on
		}
	}
	others, wait := x.askOthers(ctx, func(sum []byte) {
		mu.Lock()
		defer mu.Unlock()
		if total.Absorb(sum) == nil {
			show(0, 0)
		}
	})
	r := &reread.Reading{Settings: x.Settings, Zone: time.Local, Of: x.Plan.Condition(), Fields: x.Plan.Fields(),
		Touches: x.Plan.Touches, Notes: x.Notes, Cores: x.Cores,
		Begin: func() reread.Part {
			return &part{acc: ask.NewAcc(x.Plan), into: total, mu: &mu}
		}}
	if x.Each != nil {
		r.Told = func(read, of int64) {
			mu.Lock()
			defer mu.Unlock()
			show(read, of)
		}
	}
	read, err := r.Run(ctx, x.Logs)
	for again := 0; err == nil && read.Gone && again < mostAgain; again++ { // what was packed meanwhile lies elsewhere
		mu.Lock()
		total = ask.NewAcc(x.Plan)
		for _, sum := range others.all() {
			total.Absorb(sum) // which it could before
		}
		mu.Unlock()
		read, err = r.Run(ctx, x.Logs)
	}
	wait()
	if err == nil {
		err = x.stands(ctx, others, func(sum []byte) error {
			mu.Lock()
			defer mu.Unlock()
			return total.Absorb(sum)
		})
	}
	if err != nil {
		return nil, nil, unseen, err
	}
	out.Bytes, out.Of, out.Unread, out.Untimed = read.Bytes, read.Of, read.Unread, read.Untimed
	out.Twice = twice(x.Logs)
	if len(read.First) == len(x.Logs) && len(x.Logs) > 0 {
		first := entry.Instant(math.MaxInt64)
		for _, at := range read.First {
			first = min(first, at)
		}
		if first > x.Plan.Span.From {
			out.Kept, unseen.Kept = first, first
		}
	}
	if x.Others != nil {
		out.Bytes, out.Of = out.Bytes+others.bytes, out.Of+others.of
		out.Unread = append(out.Unread, others.unread...)
		out.Missing, out.Hosts, out.Stood = others.missing(), len(others.names), others.stood
	}
	out.Took = time.Since(began)
	return total, out, unseen, nil
}

// part adds up what comes of a part of a log.
type part struct {
	acc      *ask.Acc
	captures []entry.Field
	into     *ask.Acc
	mu       *sync.Mutex
}

// Take is part of reread.Part.
func (p *part) Take(e *entry.Entry, log, file int) {
	p.captures = p.acc.Add(e, ask.Place{Log: int32(log), File: int32(file), Offset: e.Offset}, p.captures)
}

// Lean is part of reread.Lean.
func (p *part) Lean() ([]string, bool) { return p.acc.Plan.Lean() }

// TakeLean is part of reread.Lean.
func (p *part) TakeLean(values [][]byte, at entry.Instant) { p.acc.AddLean(values, at) }

// Done is part of reread.Part.
func (p *part) Done(entries int64) {
	p.acc.Looked += entries
	p.mu.Lock()
	defer p.mu.Unlock()
	p.into.Merge(p.acc)
}

// twice are the files that belong to logs of two sources.
func twice(logs []reread.Log) []string {
	seen, out := map[string]string{}, []string(nil)
	for _, l := range logs {
		name := cmp.Or(l.Only, l.Series)
		if was, ok := seen[name]; ok && was != l.Source.Name && !slices.Contains(out, name) {
			out = append(out, name)
		}
		seen[name] = l.Source.Name
	}
	return out
}

// unseen is what could not be seen of all logs together, while the span lasted.
func (x *Asking) unseen(out *Asked) (ask.Unseen, error) {
	u := ask.Unseen{Kept: entry.None}
	if x.Store == nil {
		return u, nil
	}
	darks, err := x.Store.Darks(x.Plan.Span.From, x.Plan.Span.To)
	if err != nil {
		return u, err
	}
	for _, d := range darks {
		if !slices.ContainsFunc(x.Logs, func(l reread.Log) bool { return l.Name == d.Origin }) {
			continue
		}
		out.Blind = append(out.Blind, d)
		s := ask.Stretch{From: max(d.Since, x.Plan.Span.From), To: x.Plan.Span.To}
		if d.Until != entry.None {
			s.To = min(d.Until, s.To)
		}
		if s.To > s.From {
			u.Blind = append(u.Blind, s)
		}
	}
	slices.SortFunc(out.Blind, func(a, b store.Dark) int { return cmp.Compare(a.Since, b.Since) })
	slices.SortFunc(u.Blind, func(a, b ask.Stretch) int { return cmp.Compare(a.From, b.From) })
	return u, nil
}

// alerts adds the alerts up that were raised in the span, as they were known at the lamp.
func (x *Asking) alerts(into *ask.Acc) error {
	if x.Store == nil {
		return &api.Problem{Code: api.Unknown, What: "no service has run here, so no alert is known",
			Mend: "say where its data is: --data DIR"}
	}
	from, _ := x.Plan.Reach()
	list, err := Alerts(x.Store, from, x.Plan.Lamp)
	if err != nil {
		return err
	}
	var captures []entry.Field
	for i := range list {
		captures = into.Add(&list[i], ask.Place{Offset: int64(i)}, captures)
	}
	into.Looked = int64(len(list))
	return nil
}

// Alerts are the alerts that were raised from an instant on, each as an entry, as they were known at
// the lamp.
func Alerts(st *store.Store, from, lamp entry.Instant) ([]entry.Entry, error) {
	type alert struct {
		raise    engine.Transition
		severity entry.Severity
		ended    entry.Instant
		by       string
		hits     int
		told     int
		untold   string
		taken    string
		takenAt  entry.Instant
		reopened int
	}
	known := map[string]*alert{}
	var order []*alert
	var bad error
	err := st.Lines(0, from, func(_ int64, line string) {
		var t engine.Transition
		if err := json.Unmarshal([]byte(line), &t); err != nil {
			bad = errors.Join(bad, err)
			return
		}
		if t.At > lamp {
			return
		}
		a := known[t.Alert]
		if t.Change == engine.Raised {
			a = &alert{raise: t, ended: entry.None, takenAt: entry.None}
			known[t.Alert] = a
			order = append(order, a)
		}
		if a == nil {
			return
		}
		a.hits = max(a.hits, t.Count)
		switch t.Change {
		case engine.Raised, engine.Worsened, engine.Reopened:
			a.severity = max(a.severity, t.Severity)
		case "taken":
			if a.takenAt == entry.None {
				a.taken, a.takenAt = t.By, t.At
			}
		}
		switch t.Change {
		case engine.Raised, engine.Worsened, engine.Repeated, engine.Cleared, engine.Reopened:
			if t.Untold == "" {
				a.told++
			} else if a.untold == "" {
				a.untold = string(t.Untold)
			}
		}
		switch t.Change {
		case engine.Cleared:
			a.ended, a.by = t.At, t.Why
		case engine.Reopened:
			a.ended, a.by = entry.None, ""
			a.reopened++
		}
	})
	if err = errors.Join(err, bad); err != nil {
		return nil, err
	}
	if live := time.Since(lamp.Time()) < time.Minute; live { // hits are counted beside the transitions
		open, err := st.Alerts(from, lamp)
		if err != nil {
			return nil, err
		}
		for _, o := range open {
			if a := known[o.Alert]; a != nil {
				a.hits = max(a.hits, o.Count)
			}
		}
	}
	out := make([]entry.Entry, 0, len(order))
	for _, a := range order {
		e := entry.Entry{
			Source:  "alerts",
			Origin:  "alerts:" + a.raise.Rule,
			At:      a.raise.At,
			Arrived: a.raise.At,
			Fits:    true,
			Raw:     a.raise.Say,
		}
		add := func(name, value string) {
			if value != "" && !slices.ContainsFunc(e.Fields, func(f entry.Field) bool { return f.Name == name }) {
				e.Fields = append(e.Fields, entry.Field{Name: name, Value: value})
			}
		}
		add("rule", a.raise.Rule)
		add("severity", a.severity.String())
		add("why", a.raise.Why)
		open := a.ended == entry.None
		if !open {
			add("ended", a.ended.String())
			add("ended-by", a.by)
			add("lasted", entry.Span(a.ended.Sub(a.raise.At)))
		}
		add("open", strconv.FormatBool(open))
		add("hits", strconv.Itoa(a.hits))
		add("told", strconv.Itoa(a.told))
		add("untold", a.untold)
		add("reopened", strconv.Itoa(a.reopened))
		if a.takenAt != entry.None {
			add("taken-by", cmp.Or(a.taken, "somebody"))
			add("taken-after", entry.Span(a.takenAt.Sub(a.raise.At)))
		}
		for i, f := range a.raise.Fields {
			v := a.raise.Key[i]
			if v == "?" {
				v = ""
			}
			add(f, v)
			add("key."+f, v)
		}
		if a.raise.Entry != nil {
			host, _, _ := strings.Cut(a.raise.Entry.Origin, ":")
			add("host", host)
		}
		add("text", a.raise.Say)
		out = append(out, e)
	}
	return out, nil
}

// Rests says in words what an answer rests on.
func (a *Asked) Rests(zone *time.Location) []string {
	p := a.Plan
	var out []string
	say := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	what := "entries"
	if p.Q.Alerts {
		what = "alerts"
	}
	first := fmt.Sprintf("%s of %s %s fit", humanize.Comma(a.Fit), humanize.Comma(a.Looked), what)
	if !p.Q.Alerts {
		first += fmt.Sprintf(
			"; %s of %s had to be read",
			humanize.Bytes(uint64(a.Bytes)),
			humanize.Bytes(uint64(a.Of)),
		)
	}
	say("%s, in %s", first, tookWords(a.Took))
	stamp := func(t entry.Instant) string { return t.Time().In(zone).Format("2006-01-02 15:04:05") }
	for _, f := range sorted(a.NoNumber) {
		n, lacking := a.NoNumber[f], a.Lacked[f]
		switch {
		case lacking == n:
			say("%s of them have no %s", humanize.Comma(n), f)
		case lacking > 0:
			say("%s of them give no number for %s: %s lack it, others have for instance %s", humanize.Comma(n), f,
				humanize.Comma(lacking), lang.Quote(a.NotNumber[f]))
		default:
			say(
				"%s of them give no number for %s: they have for instance %s",
				humanize.Comma(n),
				f,
				lang.Quote(a.NotNumber[f]),
			)
		}
	}
	if a.Pending > 0 {
		say("%s wait for their second half", english.Plural(int(a.Pending), "pair", ""))
	}
	if a.Hosts > 0 {
		say("%s asked besides", english.Plural(a.Hosts, "host was", "hosts were"))
	}
	for _, m := range a.Missing {
		say("%s", m)
	}
	if n := len(a.Stood); n > 3 {
		say("of %d hosts, such as %s, what is kept here", n, a.Stood[0])
	} else if n > 0 {
		say("of %s what is kept here", english.OxfordWordSeries(a.Stood, "and"))
	}
	for _, d := range a.Blind[:min(len(a.Blind), 5)] {
		until := "now"
		if d.Until != entry.None {
			until = stamp(d.Until)
		}
		say("blind: %s could not be seen from %s to %s", d.Origin, stamp(d.Since), until)
	}
	if n := len(a.Blind) - 5; n > 0 {
		say("blind: %d more times at which something could not be seen", n)
	}
	if a.Kept != entry.None {
		say("nothing is there any more of before %s", stamp(a.Kept))
	}
	for _, f := range sorted(a.Untimed) {
		say(
			"%s gives its entries no time: all of them stand at %s, when it was last written",
			f,
			stamp(a.Untimed[f]),
		)
	}
	for _, f := range a.Twice {
		say("%s counts in two sources", f)
	}
	for _, f := range a.Unread {
		say("%s", f)
	}
	if a.TooMany > 0 {
		say(
			"there are more groups than there is room for: %s entries of those that came last count as one, "+
				"among all others; a "+
				"narrower where, or fewer fields in per",
			humanize.Comma(a.TooMany),
		)
	}
	if a.Dropped > 0 {
		say(
			"only the newest %s are shown; %s more fit",
			humanize.Comma(int64(len(a.Entries))),
			humanize.Comma(a.Dropped),
		)
	}
	if a.TooMuch {
		say(
			"too many entries would have to be held at once to join them, or to compare each with the one " +
				"before: take a " +
				"shorter span, or a narrower where",
		)
	}
	if a.EmptiedBy != "" {
		out = append(out, emptied(a, stamp))
	}
	return out
}

// emptied says which clause left nothing, and what to do.
func emptied(a *Asked, stamp func(entry.Instant) string) string {
	q := a.Plan.Q
	span := fmt.Sprintf("%s to %s", stamp(a.Plan.Span.From), stamp(a.Plan.Span.To))
	switch a.EmptiedBy {
	case "on":
		if a.Of > 0 {
			return "nothing of what is there lies in the span, " + span
		}
		return "nothing is there to be asked: its sources have no entries"
	case "where":
		return "where left nothing: no entry fits " + q.Where.String()
	case "join":
		return "join left nothing: no entry is a first half, " + q.Join.First.String()
	case "ignore":
		return "ignore left nothing: all entries that fit are ignored"
	case "having":
		return "having left nothing: of no group " + q.Having.String()
	case "new":
		return "new left nothing: every group had an entry before"
	}
	return "entries fit, but none lies in the span, " + span
}

func tookWords(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", max(d.Milliseconds(), 1))
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}

func sorted[V any](m map[string]V) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
