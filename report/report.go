// Package report makes reports when they are due: answers to questions, as pages, paper and tables, which
// are kept, sent and written into folders. Which reports there are comes from the settings, what they say
// from the ledger; how messages are sent is the outbox's.
package report

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"dimlantern/api"
	"dimlantern/core/ask"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/draw"
	"dimlantern/export"
	"dimlantern/notify/via"
	"dimlantern/query"
	"dimlantern/snapshot"
	"dimlantern/store"
)

// Maker makes reports. Run and the methods that answer questions may be called concurrently.
type Maker struct {
	Window *snapshot.Window
	Store  *store.Store
	Data   string // the data folder
	// Ask answers a kept question about the time up to a lamp, over a span instead of its own where that is
	// not nil. Shift says what happened in a stretch of time.
	Ask   func(ctx context.Context, name string, lamp entry.Instant, over *lang.Over) (*query.Asked, error)
	Shift func(context.Context, api.ShiftQuery) (*api.Shift, error)
	// Tell has a message sent, once for its ID.
	Tell    func(contact string, m *via.Message) error
	Told    func(words string)          // to people
	Noticed func(fields map[string]any) // for rules

	// Now is the clock; nil is the machine's.
	Now func() time.Time

	mu   sync.Mutex // one report is made at a time
	wait map[string]time.Time
}

// How often it is looked whether something is due, how many of those that were missed are made, how often
// one that fails is tried, and how long is waited between.
const (
	lookEvery  = time.Second
	mostMissed = 7
	mostTries  = 3
	tryAgain   = time.Minute
)

// catchingUp is how often it is looked whether the present has been reached since the start.
const catchingUp = 50 * time.Millisecond

// ResultsFolder is the folder of the data in which results are kept.
const ResultsFolder = "results"

// Run makes reports as they are due, until the context ends.
func (m *Maker) Run(ctx context.Context) {
	t := time.NewTicker(lookEvery)
	defer t.Stop()
	for {
		m.look(ctx)
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
	}
}

// look makes what is due now.
func (m *Maker) look(ctx context.Context) {
	sn := m.Window.Now()
	if sn.Catching { // what is there is not all that has come
		return
	}
	for _, r := range sn.Settings.Reports {
		if r.Off || r.Every == nil || ctx.Err() != nil {
			continue
		}
		if err := m.due(ctx, sn, r, m.now()); err != nil && ctx.Err() == nil {
			m.Told(fmt.Sprintf("report %s: %v", r.Name, err))
		}
	}
}

func (m *Maker) now() time.Time {
	if m.Now != nil {
		return m.Now()
	}
	return time.Now()
}

func zoneOf(r *lang.Report) *time.Location { return cmp.Or(r.Zone, time.Local) }

// since is from when on a report is due: from when it was known first, or its last result.
func (m *Maker) since(r *lang.Report, now time.Time) (entry.Instant, []store.Result, error) {
	results, err := m.Store.Results(r.Name)
	if err != nil {
		return 0, nil, err
	}
	name := "report " + r.Name
	b, err := m.Store.Meta(name)
	if err != nil {
		return 0, nil, err
	}
	var known struct {
		Since entry.Instant
		Every string
	}
	if b != nil {
		json.Unmarshal(b, &known) // what cannot be read begins anew
	}
	if known.Every != r.Every.String() { // another schedule is not due for the past
		known.Since, known.Every = entry.Of(now), r.Every.String()
		b, _ = json.Marshal(known)
		if err := m.Store.PutMeta(name, b); err != nil {
			return 0, nil, err
		}
	}
	last := known.Since
	for _, x := range results {
		if !x.Asked && x.Finished {
			last = max(last, x.Due)
			break
		}
	}
	return last, results, nil
}

// due makes a report for every time that it was due.
func (m *Maker) due(ctx context.Context, sn *snapshot.Snapshot, r *lang.Report, now time.Time) error {
	m.mu.Lock()
	turn := r.Name + " " + r.Every.String() // another schedule waits for nothing
	again := m.wait[turn]
	m.mu.Unlock()
	if now.Before(again) {
		return nil
	}
	last, _, err := m.since(r, now)
	if err != nil {
		return err
	}
	var dues []entry.Instant
	for at := r.Every.Next(last, zoneOf(r)); at != entry.None && at <= entry.Of(now); at = r.Every.Next(at, zoneOf(r)) {
		dues = append(dues, at)
	}
	if n := len(dues); n == 0 {
		next := r.Every.Next(last, zoneOf(r))
		m.later(turn, time.Unix(0, int64(min(next, entry.Of(now.Add(time.Minute))))))
		return nil
	} else if n > mostMissed {
		m.Told(fmt.Sprintf("report %s was due %d times meanwhile: the last %d are made", r.Name, n, mostMissed))
		dues = dues[n-mostMissed:]
	}
	for _, at := range dues {
		x, err := m.make(ctx, sn, r, at, nil, false)
		if err != nil {
			return err
		}
		if !x.Finished {
			m.later(turn, m.now().Add(tryAgain))
			return nil
		}
	}
	return nil
}

func (m *Maker) later(turn string, at time.Time) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.wait == nil {
		m.wait = map[string]time.Time{}
	}
	m.wait[turn] = at
}

// Paper is what a report says about the time up to a lamp, over a span instead of its own where that is
// not nil, and which time that is.
func (m *Maker) Paper(ctx context.Context, sn *snapshot.Snapshot, r *lang.Report, lamp entry.Instant,
	over *lang.Over) (*draw.Paper, ask.Span, error) {
	zone := zoneOf(r)
	over = cmp.Or(over, r.Covers)
	p := &draw.Paper{Title: r.Heading(), Host: sn.Host, Made: draw.Stamp(m.now().In(zone))}
	whole, err := ask.SpanOf(over, lamp, zone)
	if err != nil {
		return nil, whole, err
	}
	first := true
	for _, name := range r.Asks {
		if name == lang.Handover {
			s, err := m.Shift(ctx, api.ShiftQuery{From: whole.From, To: whole.To})
			if ctx.Err() != nil {
				return nil, whole, ctx.Err()
			}
			p.Parts = append(p.Parts, HandoverPart(s, err, zone))
			continue
		}
		a, err := m.Ask(ctx, name, lamp, over)
		if ctx.Err() != nil {
			return nil, whole, ctx.Err()
		}
		q := sn.Settings.Ask(name)
		if q == nil {
			return nil, whole, fmt.Errorf("there is no question %s any more", name)
		}
		if err == nil && over == nil { // the questions say it themselves
			if s := a.Plan.Span; first {
				whole, first = ask.Span{From: s.From, To: s.To}, false
			} else {
				whole = ask.Span{From: min(whole.From, s.From), To: max(whole.To, s.To)}
			}
		}
		asked := *q
		asked.Over = cmp.Or(over, q.Over)
		p.Parts = append(p.Parts, PartOf(&asked, a, err, zone))
	}
	stamp := func(t entry.Instant) string { return t.Time().In(zone).Format("Mon 2 Jan 2006 15:04") }
	p.Span = stamp(whole.From) + " to " + stamp(whole.To) + whole.To.Time().In(zone).Format(" MST")
	return p, whole, nil
}

// Write writes a report in a form.
func Write(p *draw.Paper, form string) ([]byte, error) {
	var b bytes.Buffer
	var err error
	switch form {
	case "pdf":
		err = p.PDF(&b)
	case "html":
		err = p.HTML(&b)
	case "csv":
		err = p.CSV(&b, export.Cell)
	case "json":
		err = WriteJSON(&b, p)
	case "text":
		err = p.Text(&b)
	default:
		err = fmt.Errorf("a report is written as pdf, html, csv, json or text, not as %s", form)
	}
	return b.Bytes(), err
}

// make makes a report that was due, or that somebody asks for, and everything that follows from it. A
// failure is part of the result; an error is that nothing of it could be kept.
func (m *Maker) make(ctx context.Context, sn *snapshot.Snapshot, r *lang.Report, due entry.Instant, over *lang.Over,
	asked bool) (*store.Result, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	x := &store.Result{Report: r.Name, Due: due, Asked: asked}
	was, err := m.Store.Results(r.Name)
	if err != nil {
		return nil, err
	}
	failing := len(was) > 0 && was[0].Failed != ""
	for i := range was {
		if was[i].Due == due {
			x.Tries, x.Outs = was[i].Tries, was[i].Outs
		}
	}
	x.Tries++
	x.Made = entry.Of(m.now())
	p, span, err := m.Paper(ctx, sn, r, due, over)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	x.From, x.To = span.From, span.To
	if err == nil {
		for i := range p.Parts {
			if p.Parts[i].Failed != "" {
				err = fmt.Errorf("%s has no answer: %s", p.Parts[i].Title, p.Parts[i].Failed)
			}
		}
	}
	if err == nil {
		x.Empty = p.Empty()
		x.Skipped = x.Empty && r.Skip && !asked
		if !x.Skipped {
			err = m.finish(x, p, r, !asked)
		}
	}
	if x.Failed = ""; err != nil {
		x.Failed = err.Error()
	}
	x.Finished = err == nil || x.Tries >= mostTries || asked
	if err := m.Store.PutResult(x); err != nil {
		return nil, err
	}
	switch {
	case x.Failed != "":
		m.Noticed(map[string]any{"event": "report-failed", "report": r.Name, "reason": x.Failed, "due": due.String(),
			"text": fmt.Sprintf("report %s could not be made: %s", r.Name, x.Failed)})
	case failing:
		m.Noticed(map[string]any{"event": "report-made", "report": r.Name,
			"text": fmt.Sprintf("report %s was made", r.Name)})
	}
	return x, m.letGo(r)
}

// finish keeps, writes and tells a result.
func (m *Maker) finish(x *store.Result, p *draw.Paper, r *lang.Report, tell bool) error {
	bodies := map[string][]byte{}
	for _, form := range r.Forms() {
		b, err := Write(p, form)
		if err != nil {
			return err
		}
		bodies[form] = b
		path := filepath.Join(ResultsFolder, r.Name, x.Due.Time().UTC().Format("20060102T150405.000Z")+"."+form)
		if err := m.put(path, b); err != nil {
			return err
		}
		x.Files = append(x.Files, store.ResultFile{Form: form, Path: path, Size: int64(len(b))})
	}
	text, err := Write(p, "text")
	if err != nil {
		return err
	}
	x.Brief = p.Brief()
	x.Text = filepath.Join(ResultsFolder, r.Name, x.Due.Time().UTC().Format("20060102T150405.000Z")+".txt")
	if err := m.put(x.Text, text); err != nil {
		return err
	}
	if !tell {
		return nil
	}
	if r.Write != "" {
		if err := m.writeOut(x, r, bodies); err != nil {
			return err
		}
	}
	return m.tell(x, p.Title+", "+p.Span, r, "")
}

// put writes a file of the data folder whole.
func (m *Maker) put(path string, body []byte) error {
	path = filepath.Join(m.Data, path)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(path+".part", body, 0o600); err != nil {
		return err
	}
	return os.Rename(path+".part", path)
}

// writeOut writes a result into the report's folder, under names with the date. It writes over nothing but
// what a try before has written.
func (m *Maker) writeOut(x *store.Result, r *lang.Report, bodies map[string][]byte) error {
	if err := os.MkdirAll(r.Write, 0o755); err != nil {
		return err
	}
	date := x.Due.Time().In(zoneOf(r)).Format(time.DateOnly)
	if r.Every != nil && r.Every.D > 0 {
		date = x.Due.Time().In(zoneOf(r)).Format("2006-01-02T1504")
	}
	if x.Outs == nil {
		x.Outs = map[string]string{}
	}
	for form := range bodies {
		if x.Outs[form] != "" {
			continue
		}
		for n := 1; x.Outs[form] == ""; n++ {
			name := r.Name + "-" + date
			if n > 1 {
				name += fmt.Sprintf("-%d", n)
			}
			path := filepath.Join(r.Write, name+"."+form)
			if _, err := os.Lstat(path); errors.Is(err, fs.ErrNotExist) {
				x.Outs[form] = path
			} else if err != nil {
				return err
			}
		}
	}
	if err := m.Store.PutResult(x); err != nil { // so that a try after a kill writes there again, and nowhere else
		return err
	}
	for form, b := range bodies {
		path := x.Outs[form]
		if err := os.WriteFile(path+".part", b, 0o644); err != nil {
			return err
		}
		if err := os.Rename(path+".part", path); err != nil {
			return err
		}
		for i := range x.Files {
			if x.Files[i].Form == form {
				x.Files[i].Out = path
			}
		}
	}
	return nil
}

// tell hands a result to the outbox, for each contact. Again tells it from what was told of it before.
func (m *Maker) tell(x *store.Result, subject string, r *lang.Report, again string) error {
	text, err := os.ReadFile(filepath.Join(m.Data, x.Text))
	if err != nil {
		return err
	}
	sn := m.Window.Now()
	for _, name := range r.Tell {
		c := sn.Settings.Contact(name)
		if c == nil || c.Off {
			continue
		}
		msg := &via.Message{ID: fmt.Sprintf("report-%s-%d%s-%s", r.Name, int64(x.Due)/1e9, again, name),
			Kind: via.KindReport, Made: x.Made.Time(), Host: sn.Host, Contact: name, Severity: "notice",
			Subject: subject, Text: string(text), Brief: x.Brief}
		for _, f := range x.Files {
			if f.Form == "html" {
				b, err := os.ReadFile(filepath.Join(m.Data, f.Path))
				if err != nil {
					return err
				}
				msg.HTML = string(b)
				continue
			}
			date := x.Due.Time().In(zoneOf(r)).Format(time.DateOnly)
			msg.Files = append(msg.Files, via.File{Name: r.Name + "-" + date + "." + f.Form,
				Path: filepath.Join(m.Data, f.Path)})
		}
		if err := m.Tell(name, msg); err != nil {
			return err
		}
		x.Told = append(x.Told, store.ToldWay{Contact: name, Message: msg.ID})
	}
	return nil
}

// letGo forgets results beyond those that are kept.
func (m *Maker) letGo(r *lang.Report) error {
	list, err := m.Store.Results(r.Name)
	if err != nil {
		return err
	}
	oldest := entry.None
	if d := m.Window.Now().Settings.Stays.Results; d > 0 {
		oldest = entry.Of(m.now().Add(-d))
	}
	for i, x := range list {
		if !x.Finished || i < r.Results() && x.Due >= oldest {
			continue
		}
		if err := m.Forget(&x); err != nil {
			return err
		}
	}
	return nil
}

// Forget lets go of a result and of its files in the data folder.
func (m *Maker) Forget(x *store.Result) error {
	files := x.Files
	if x.Text != "" {
		files = append(slices.Clone(files), store.ResultFile{Path: x.Text})
	}
	for _, f := range files {
		if err := os.Remove(filepath.Join(m.Data, f.Path)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return m.Store.DropResult(x.Report, x.Due)
}

// Reports are all reports, and how each stands.
func (m *Maker) Reports(context.Context, api.None) (*api.ReportList, error) {
	sn := m.Window.Now()
	out := &api.ReportList{}
	for _, r := range sn.Settings.Reports {
		v := api.ReportView{Name: r.Name, Title: r.Heading(), Asks: r.Asks, Forms: r.Forms(), Tell: r.Tell,
			Write: r.Write, Off: r.Off, File: r.Pos.File, Line: r.Pos.Line, Keep: r.Results()}
		if r.Covers != nil {
			v.Covers = strings.TrimPrefix(r.Covers.String(), "over ")
		}
		results, err := m.Store.Results(r.Name)
		if err != nil {
			return nil, err
		}
		if r.Every != nil {
			v.Every = r.Every.String()
			if last, _, err := m.since(r, m.now()); err == nil && !r.Off {
				v.Next = r.Every.Next(max(last, entry.Of(m.now())), zoneOf(r))
			}
		}
		for i := range results {
			v.Results = append(v.Results, m.view(&results[i]))
		}
		out.List = append(out.List, v)
	}
	return out, nil
}

// view is a result as it is shown.
func (m *Maker) view(x *store.Result) api.ReportResult {
	v := api.ReportResult{Due: x.Due, Made: x.Made, From: x.From, To: x.To, Asked: x.Asked, Empty: x.Empty,
		Skipped: x.Skipped, Failed: x.Failed, Finished: x.Finished}
	for _, f := range x.Files {
		v.Size += f.Size
		v.Files = append(v.Files, api.ReportFile{Form: f.Form, Size: f.Size, Path: cmp.Or(f.Out,
			filepath.Join(m.Data, f.Path))})
	}
	for _, t := range x.Told {
		w := api.ReportTold{Contact: t.Contact}
		w.State, w.Words, w.At = m.Store.ToldAs(t.Message)
		v.Told = append(v.Told, w)
	}
	return v
}

// Do makes, gives or sends again a result of a report.
func (m *Maker) Do(ctx context.Context, q api.ReportQuery) (*api.ReportDone, error) {
	sn := m.Window.Now()
	r := sn.Settings.Report(q.Name)
	if r == nil {
		var names []string
		for _, x := range sn.Settings.Reports {
			names = append(names, x.Name)
		}
		mend := "write one into the settings: report NAME { ask QUESTION  every day at 07:00 }"
		if len(names) > 0 {
			mend = "there are: " + strings.Join(names, ", ")
		}
		return nil, &api.Problem{Code: api.Unknown, What: "there is no report " + q.Name, Mend: mend}
	}
	if q.Now {
		return m.anew(ctx, sn, r, q)
	}
	results, err := m.Store.Results(r.Name)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(results, func(x store.Result) bool {
		return (q.Due == 0 || x.Due == q.Due) && len(x.Files) > 0
	})
	if i < 0 {
		return nil, &api.Problem{Code: api.Unknown, What: "there is no result of " + r.Name + " yet",
			Mend: "dimlantern report " + r.Name + " --now makes one"}
	}
	x := &results[i]
	if q.Tell {
		return m.again(r, x)
	}
	form := cmp.Or(q.Form, x.Files[0].Form)
	for _, f := range x.Files {
		if f.Form == form {
			b, err := os.ReadFile(filepath.Join(m.Data, f.Path))
			if err != nil {
				return nil, &api.Problem{Code: api.Failed,
					What: "the result of " + r.Name + " cannot be read: " + err.Error(),
					Mend: "dimlantern report " + r.Name + " --now makes another"}
			}
			return &api.ReportDone{Body: b, Form: form, Result: m.view(x)}, nil
		}
	}
	return nil, &api.Problem{Code: api.Unknown, What: "the result of " + r.Name + " was not made as " + form,
		Mend: "dimlantern report " + r.Name + " --now --as " + form + " makes one"}
}

// anew makes a result that somebody asks for; it is told nobody unless that is asked for.
func (m *Maker) anew(ctx context.Context, sn *snapshot.Snapshot, r *lang.Report, q api.ReportQuery) (*api.ReportDone,
	error) {
	for sn.Catching { // before the logs are known they have nothing to say
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(catchingUp):
			sn = m.Window.Now()
		}
	}
	var over *lang.Over
	if q.Covers != "" {
		var err error
		if over, err = ReadOver(q.Covers); err != nil {
			return nil, &api.Problem{Code: api.BadQuestion, What: err.Error(),
				Mend: "write 24h, yesterday, last week or last month"}
		}
	}
	forms := *r
	if q.Form != "" {
		forms.As = []string{q.Form}
	}
	x, err := m.make(ctx, sn, &forms, entry.Of(m.now()), over, true)
	if err != nil {
		return nil, err
	}
	if x.Failed != "" {
		return nil, &api.Problem{Code: api.Failed, What: "the report could not be made: " + x.Failed}
	}
	if q.Tell {
		if _, err := m.again(r, x); err != nil {
			return nil, err
		}
	}
	done := &api.ReportDone{Form: x.Files[0].Form, Result: m.view(x)}
	done.Body, err = os.ReadFile(filepath.Join(m.Data, x.Files[0].Path))
	return done, err
}

// again tells a result once more.
func (m *Maker) again(r *lang.Report, x *store.Result) (*api.ReportDone, error) {
	if len(r.Tell) == 0 {
		return nil, &api.Problem{Code: api.BadQuestion, What: "the report " + r.Name + " is told nobody",
			Mend: "write into it: tell CONTACT"}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	stamp := func(t entry.Instant) string { return t.Time().In(zoneOf(r)).Format("Mon 2 Jan 2006 15:04") }
	subject := r.Heading() + ", " + stamp(x.From) + " to " + stamp(x.To)
	if err := m.tell(x, subject, r, fmt.Sprintf("-again-%d", m.now().UnixNano())); err != nil {
		return nil, err
	}
	return &api.ReportDone{Result: m.view(x)}, m.Store.PutResult(x)
}

// ReadOver reads a span as reports say it behind covers.
func ReadOver(text string) (*lang.Over, error) {
	s, ds := lang.Check([]*lang.File{lang.ParseQuestion("", "over "+text)}, lang.Env{ErrorsOnly: true})
	if q := s.Ask(lang.Typed); q != nil && q.Over != nil && !lang.Errors(ds) {
		return q.Over, nil
	}
	what := "it is no span"
	for _, d := range ds {
		what = d.What
	}
	return nil, fmt.Errorf("--covers %s cannot be read: %s", text, what)
}
