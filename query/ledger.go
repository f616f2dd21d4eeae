package query

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"dimlantern/api"
	"dimlantern/core/ask"
	"dimlantern/core/author"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/intake/reread"
	"dimlantern/snapshot"
)

// Ledger answers questions as they are typed: one at a time for each room that asks, each answer shown
// while it grows.
type Ledger struct {
	asker *Asker
	notes *reread.Notes
	// Remote asks hosts that have joined; nil where none can. It is set before anything is asked.
	Remote Remote
	// KeptThere are the logs of hosts that are kept here; nil where none are. It is set as Remote is.
	KeptThere func(src *lang.Source) []KeptLog

	mu     sync.Mutex
	rooms  map[string]*growing
	sparks map[string]*spark // by question
	making bool              // small pictures of kept questions
	// counting tells that entries of a source are, that were there before it was followed.
	counting bool
}

// NewLedger answers with what an Asker knows; the notes of files stand in a folder.
func NewLedger(s *Asker, notes string) *Ledger {
	return &Ledger{asker: s, notes: reread.NewNotes(notes), rooms: map[string]*growing{},
		sparks: map[string]*spark{}}
}

// growing is an answer that grows.
type growing struct {
	key    string
	cancel context.CancelFunc
	asked  time.Time // when somebody asked for it last

	mu   sync.Mutex
	view *api.LedgerView
	err  error
	news chan struct{} // closed when there is something newer
}

// Bounds of what is shown of an answer.
const (
	mostGroups   = 200 // groups
	mostLines    = 300 // entries
	waitsForNews = 400 * time.Millisecond
	forgotten    = 20 * time.Second // an answer that nobody asks for any more ends
)

// Ask answers a question, as far as it is answered.
func (l *Ledger) Ask(ctx context.Context, q api.LedgerQuery) (*api.LedgerView, error) {
	if q.Stop {
		l.end(q.Room)
		return &api.LedgerView{Done: true, Kept: entry.None}, nil
	}
	sn := l.asker.Window.Now()
	lamp := cmp.Or(q.At, entry.Of(time.Now()))
	if strings.TrimSpace(q.Text) == "" {
		return l.overview(ctx, sn, q, lamp)
	}
	settings, question, ds := checked(sn, q.Text)
	head := &api.LedgerView{At: lamp, Problems: problems(ds), Kept: entry.None}
	fields := l.fields(settings, question, q.Text)
	head.Complete, head.Typed = author.CompleteQuestion(settings, fields, q.Text, q.Line, q.Col)
	head.Fields = fields
	if question == nil {
		head.Done = true
		l.end(q.Room)
		return head, nil
	}
	head.Words = question.Words()
	if len(question.Show) == 1 && question.Show[0].Fn == "gaps" { // they are stretches themselves
		q.Column = 0
	}
	if slices.Contains(question.Per, "weekday") && slices.Contains(question.Per, "hour") { // it is a week
		q.Column = 0
	}
	m := ask.Moment{Lamp: lamp, From: q.From, To: min(lamp, cmp.Or(q.Until, lamp)), Zone: zoneOf(question),
		Column: q.Column, Reporter: reporterName(sn)}
	p, err := ask.New(question, m)
	if err != nil {
		t := err.(*ask.Trouble)
		head.Problems = append(
			head.Problems,
			api.BenchFinding{Line: 1, Col: 1, Len: 1, Error: true, What: t.What, Mend: t.Mend},
		)
		head.Done = true
		return head, nil
	}
	key := fmt.Sprint(question.String(), q.At, q.Column, p.Span.From, p.Span.To)
	if q.At == 0 { // what is live is asked anew when it is asked for anew
		key = fmt.Sprint(question.String(), q.Column, p.Span.To.Sub(p.Span.From).Round(time.Minute))
	}
	g := l.grow(q.Room, key, q.Seen == 0 && q.At == 0, func(ctx context.Context, g *growing) error {
		return l.answer(ctx, sn, settings, p, m, g)
	})
	view, err := g.newer(ctx, q.Seen)
	if err != nil || view == nil {
		return nil, err
	}
	out := *view
	out.At, out.Problems, out.Words, out.Complete = lamp, head.Problems, head.Words, head.Complete
	out.Typed, out.Fields = head.Typed, head.Fields
	return &out, nil
}

func zoneOf(q *lang.Question) *time.Location { return cmp.Or(q.Zone, time.Local) }

// checked reads a question that was typed with the settings as they are at work.
func checked(sn *snapshot.Snapshot, text string) (*lang.Settings, *lang.Question, []lang.Diagnostic) {
	settings, q, ds := Typed(sn.Texts, text)
	settings.Secret = sn.Secret
	if settings.Source(lang.Itself) == nil {
		if own := sn.Settings.Source(lang.Itself); own != nil {
			settings.Sources = append(settings.Sources, own)
		}
	}
	return settings, q, ds
}

// askable is checked, with what is wrong as an error.
func askable(sn *snapshot.Snapshot, text string) (*lang.Settings, *lang.Question, error) {
	settings, q, ds := checked(sn, text)
	if q != nil {
		return settings, q, nil
	}
	return nil, nil, unanswerable(ds)
}

// unanswerable says why a question cannot be asked.
func unanswerable(ds []lang.Diagnostic) error {
	what := "the question cannot be answered"
	if len(ds) > 0 {
		what = ds[0].What
	}
	return &api.Problem{Code: api.Refused, What: what}
}

func problems(ds []lang.Diagnostic) []api.BenchFinding {
	out := []api.BenchFinding{}
	for _, d := range ds {
		out = append(
			out,
			api.BenchFinding{Line: d.Pos.Line, Col: d.Pos.Col, Len: d.Len, Error: d.Weight == lang.Err,
				What: d.What, Mend: d.Mend},
		)
	}
	return out
}

// fields are those that the question's entries have.
func (l *Ledger) fields(s *lang.Settings, q *lang.Question, text string) []string {
	var out []string
	add := func(list ...string) {
		for _, f := range list {
			if f != "" && !slices.Contains(out, f) {
				out = append(out, f)
			}
		}
	}
	on := &lang.Question{}
	if q != nil {
		on = q
		add(q.Captures()...)
		for _, r := range q.Reckon {
			add(r.Field)
		}
	} else {
		for _, c := range lang.ParseQuestion("", text).TypedClauses() {
			if c.Word == "on" {
				on.On, on.Alerts = c.Words, slices.Contains(c.Words, "alerts")
			}
		}
	}
	if on.Alerts {
		add(lang.AlertFields...)
		for _, r := range s.Rules {
			add(r.Per...)
		}
		return out
	}
	for _, src := range s.SourcesOf(on) {
		if lay := s.Layout(src.LayoutName()); lay != nil {
			add(lay.Fields()...)
		}
		for _, f := range src.Fields {
			add(f.Name)
		}
	}
	add("host", "source", "origin", "level", "text")
	return out
}

// grow is the answer of a room that grows: the one that does already, or a new one.
func (l *Ledger) grow(room, key string, anew bool, answer func(context.Context, *growing) error) *growing {
	l.mu.Lock()
	defer l.mu.Unlock()
	for name, g := range l.rooms { // those that nobody waits for
		if time.Since(g.asked) > forgotten {
			g.cancel()
			delete(l.rooms, name)
		}
	}
	if g := l.rooms[room]; g != nil {
		if g.key == key && !(anew && g.done()) {
			g.asked = time.Now()
			return g
		}
		g.cancel()
	}
	ctx, cancel := context.WithCancel(context.Background())
	g := &growing{key: key, cancel: cancel, asked: time.Now(), news: make(chan struct{})}
	l.rooms[room] = g
	go func() {
		defer cancel()
		err := answer(ctx, g)
		g.mu.Lock()
		defer g.mu.Unlock()
		if g.err = err; err != nil {
			close(g.news)
			g.news = make(chan struct{})
		}
	}()
	return g
}

// end ends the answer of a room.
func (l *Ledger) end(room string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if g := l.rooms[room]; g != nil {
		g.cancel()
		delete(l.rooms, room)
	}
}

func (g *growing) done() bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.err != nil || g.view != nil && g.view.Done
}

// show shows what the answer is by now.
func (g *growing) show(v *api.LedgerView) {
	g.mu.Lock()
	defer g.mu.Unlock()
	v.Version = 1
	if g.view != nil {
		v.Version = g.view.Version + 1
	}
	g.view = v
	close(g.news)
	g.news = make(chan struct{})
}

// newer waits a while for an answer that is newer than the version seen, and gives what there is.
func (g *growing) newer(ctx context.Context, seen int) (*api.LedgerView, error) {
	deadline := time.After(waitsForNews)
	for {
		g.mu.Lock()
		v, err, news := g.view, g.err, g.news
		g.mu.Unlock()
		if err != nil && !errors.Is(err, context.Canceled) {
			return nil, err
		}
		if v != nil && (v.Version > seen || v.Done) {
			return v, nil
		}
		select {
		case <-news:
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-deadline:
			if v == nil {
				v = &api.LedgerView{Kept: entry.None}
			}
			return v, nil
		}
	}
}

// logs are the logs of a question, as they are watched.
func logs(sn *snapshot.Snapshot, settings *lang.Settings, q *lang.Question) []reread.Log {
	var out []reread.Log
	wanted := settings.SourcesOf(q)
	for _, o := range sn.Origins {
		for _, src := range wanted {
			if src.Name == o.Source.Name {
				out = append(
					out,
					reread.Log{Name: o.Name, Series: o.Series, Host: o.Host, Source: src, Skew: o.Skew()},
				)
			}
		}
	}
	return out
}

// asking is a plan that is asked of what is watched.
func (l *Ledger) asking(sn *snapshot.Snapshot, settings *lang.Settings, p *ask.Plan, m ask.Moment) *Asking {
	x := &Asking{Settings: settings, Plan: p, Store: l.asker.Store, Notes: l.notes}
	if sn.Hosts != nil {
		if x.Others = OthersOf(settings, p, m, l.Remote); x.Others != nil {
			x.Others.KeptThere = l.KeptThere
		}
	}
	if !p.Q.Alerts {
		x.Logs = logs(sn, settings, p.Q)
	}
	return x
}

// answer answers a question, and shows the answer while it grows.
func (l *Ledger) answer(
	ctx context.Context,
	sn *snapshot.Snapshot,
	settings *lang.Settings,
	p *ask.Plan,
	m ask.Moment,
	g *growing,
) error {
	x := l.asking(sn, settings, p, m)
	began := time.Now()
	x.Each = func(a *ask.Answer, read, of int64) {
		v := viewOf(a, settings)
		v.Read, v.Of, v.Took = read, of, time.Since(began)
		v.Rests = []string{fmt.Sprintf("reading: %s of %s", sizeOf(read), sizeOf(of))}
		g.show(v)
	}
	a, err := x.Answer(ctx)
	if err != nil {
		return err
	}
	v := viewOf(a.Answer, settings)
	v.Done, v.Read, v.Of, v.Took, v.Kept = true, a.Bytes, a.Of, a.Took, a.Kept
	v.Rests = a.Rests(zoneOf(p.Q))
	for _, d := range a.Blind {
		v.Dark = append(v.Dark, api.Span{From: d.Since, To: d.Until, Why: d.Words})
	}
	g.show(v)
	return nil
}

// Edit changes the text of a question.
func (l *Ledger) Edit(_ context.Context, e api.LedgerEdit) (*api.LedgerText, error) {
	text := e.Text
	name := strings.TrimSpace(text)
	if lang.IsName(name) { // one that is kept becomes what it says
		if q := l.asker.Window.Now().Settings.Ask(name); q != nil {
			text = strings.Join(q.Clauses(), "\n")
		}
	}
	stamp := func(t entry.Instant) string { return t.Time().In(time.Local).Format(time.RFC3339) }
	switch e.What {
	case "only":
		text = author.OnlyWhere(text, e.Field, e.Value)
	case "not":
		text = author.NotWhere(text, e.Field, e.Value)
	case "per":
		text = author.SetClauses(text, "per "+e.Field)
	case "show":
		text = author.AddColumn(text, e.Value)
	case "from":
		text = author.SetClauses(text, "from "+stamp(e.From)+" to "+stamp(e.To))
	case "beside":
		text = author.SetClauses(text, strings.TrimSpace("beside "+e.Value))
	case "open":
	case "origin":
		text = "on " + e.Field + "\nwhere origin == " + lang.Quote(e.Value) + "\nshow count"
	case "rule":
		r := l.asker.Window.Now().Settings.Rule(e.Field)
		if r == nil {
			return nil, &api.Problem{Code: api.Unknown, What: "there is no rule " + e.Field + " any more"}
		}
		text = author.AskOfRule(r, e.Key)
	default:
		return nil, &api.Problem{Code: api.BadQuestion, What: "a question is not changed by " + e.What}
	}
	return &api.LedgerText{Text: text}, nil
}

// Rule writes a rule that watches what a question asks.
func (l *Ledger) Rule(_ context.Context, e api.LedgerEdit) (*api.LedgerText, error) {
	_, q, ds := checked(l.asker.Window.Now(), e.Text)
	switch {
	case q == nil && len(ds) > 0:
		return nil, &api.Problem{Code: api.Refused, What: ds[0].What, Mend: ds[0].Mend}
	case q == nil || q.Alerts:
		return nil, &api.Problem{Code: api.Refused, What: "rules watch entries, not alerts"}
	}
	column := slices.IndexFunc(q.Columns(), func(c lang.Column) bool { return c.String() == e.Field })
	every := "10m"
	if q.Every != nil && q.Every.Unit == "" {
		every = entry.Span(q.Every.D)
	} else if d := e.To.Sub(e.From); d > 0 {
		every = entry.Span(d)
	}
	text, why := author.RuleOf(q, max(column, 0), cmp.Or(e.Value, "10"), every)
	for _, w := range why {
		text = "# " + w + "\n" + text
	}
	return &api.LedgerText{Text: text}, nil
}

// Out answers a question in a form.
func (l *Ledger) Out(ctx context.Context, q api.LedgerOut) (*api.LedgerFile, error) {
	sn := l.asker.Window.Now()
	settings, question, err := askable(sn, q.Text)
	if err != nil {
		return nil, err
	}
	lamp := cmp.Or(q.At, entry.Of(time.Now()))
	m := ask.Moment{Lamp: lamp, From: q.From, To: min(lamp, cmp.Or(q.Until, lamp)), Zone: zoneOf(question),
		Column: q.Column, Reporter: reporterName(sn)}
	p, err := ask.New(question, m)
	if err != nil {
		return nil, err
	}
	a, err := l.asking(sn, settings, p, m).Answer(ctx)
	if err != nil {
		return nil, err
	}
	var b strings.Builder
	switch q.Form {
	case "csv":
		err = a.WriteCSV(&b)
	case "json":
		err = a.WriteJSON(&b)
	case "svg", "pdf":
		err = a.Draw(&b, q.Form, cmp.Or(q.Title, question.Name), q.Ground == "dark", zoneOf(question))
	default:
		err = &api.Problem{
			Code: api.BadQuestion,
			What: "an answer is written as svg, pdf, csv or json, not as " + q.Form,
		}
	}
	return &api.LedgerFile{Body: []byte(b.String())}, err
}

func sizeOf(n int64) string { return fmt.Sprintf("%.1f MB", float64(n)/1e6) }

// Kept answers a question of the settings about the time up to a lamp, over a span instead of its own where
// that is not nil.
func (l *Ledger) Kept(ctx context.Context, name string, lamp entry.Instant, over *lang.Over) (*Asked, error) {
	sn := l.asker.Window.Now()
	settings, question, err := askable(sn, name)
	if err != nil {
		return nil, err
	}
	q := *question
	q.Over = cmp.Or(over, q.Over)
	m := ask.Moment{Lamp: lamp, Zone: zoneOf(&q), Reporter: reporterName(sn)}
	p, err := ask.New(&q, m)
	if err != nil {
		return nil, err
	}
	return l.asking(sn, settings, p, m).Answer(ctx)
}
