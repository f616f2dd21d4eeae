package workbench

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"dimlantern/core/author"
	"dimlantern/snapshot"
	"dimlantern/store"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/core/trial"
	"dimlantern/folder"
	"dimlantern/intake/regular"
	"dimlantern/query"
)

// benchStale is how long a sample of live logs is used before it is read anew.
const benchStale = 20 * time.Second

// benchSamples holds the sample that was read last.
type benchSamples struct {
	mu  sync.Mutex
	now *benchSample
}

// benchSample is a sample that was read. It does not change after that.
type benchSample struct {
	key   string
	read  time.Time
	said  []*trial.Said
	kinds *trial.Kinds
	bytes int64
	cut   bool
	// others tells that hosts were asked, and without which the sample is, in words.
	others  bool
	without []string
	took    time.Duration // to read

	trying sync.Mutex // of recall
	recall *trial.Recall
}

// try runs a rule over the sample. One that differs from the one before in when it raises
// and clears alone looks at no entry again.
func (b *benchSample) try(s *lang.Settings, r *lang.Rule, o trial.Options) (*trial.Tried, error) {
	b.trying.Lock()
	defer b.trying.Unlock()
	o.Recall, o.RecallOf = b.recall, trial.Matching(s, r)
	return trial.TryRule(s, r, b.said, o)
}

// Bench says what a text being typed means, and what its rule would have done.
func (s *Workbench) Bench(ctx context.Context, q api.BenchQuery) (*api.BenchView, error) {
	q.Columns = min(max(q.Columns, 1), query.MaxColumns)
	q.Column, q.Span = max(q.Column, time.Second), min(max(q.Span, time.Minute), 31*24*time.Hour)
	at := q.At
	var err error
	if at == 0 {
		at = entry.Of(time.Now())
	}
	sn := s.Window.Now()
	settings, ds := sn.Check(folder.With(sn.Texts, q.File, q.Body))
	v := &api.BenchView{Findings: []api.BenchFinding{}, Rows: []api.Row{}, Kinds: []api.BenchKind{},
		Failed: []string{}}
	v.Findings, v.Errors, v.Doubts = benchFindings(ds, q.File, q.Line)
	r := settings.RuleNear(q.File, q.Line)
	if r == nil { // what its sources say helps to write it
		says, err := s.kindsBeside(ctx, settings, q, at)
		v.Kinds = benchKinds(says)
		v.Complete, v.Typed = author.Complete(settings, nil, says, q.Body, q.Line, q.Col)
		return v, err
	}
	v.Rule, v.Words = r.Name, r.Words()
	if r.Problem != nil {
		v.Problem, v.Endless = r.Problem.String(), r.Recovery == nil && r.Awaits == nil
	}
	for _, o := range trial.ExpectsOf(settings, r) {
		if o.Failed {
			v.Failed = append(v.Failed, o.Expect.Title)
		} else {
			v.Passed++
		}
	}
	if len(q.Fed) > 0 {
		v.Fed = trial.Feed(settings, r, q.Fed)
	}
	from, until := at.Add(-q.Span), at+1
	if len(q.Files) > 0 { // all that they say, whenever that was
		from, until = 0, 0
	}
	newest := entry.None
	if q.At == 0 && len(q.Files) == 0 {
		newest = saidBefore(sn, r, from)
	}
	older := newest != entry.None
	if older { // what they said before the span helps more than nothing
		from = 0
	}
	b, err := s.benchSampleOf(ctx, settings, r, q, from, at)
	if err != nil {
		return nil, err
	}
	start := time.Now()
	tried, err := b.try(settings, r, trial.Options{Zone: time.Local, From: bounded(from), To: until, Stop: ctx.Err})
	if err != nil {
		return nil, err
	}
	took := time.Since(start)
	v.Ends = tried.Clock
	began, ended := from, at
	if len(q.Files) > 0 || older {
		began, ended = tried.First, tried.Clock
	}
	v.Notes = slices.Concat(b.without, benchNotes(r, tried, began, ended))
	for _, d := range b.said {
		if r.LooksAt(d.Source.Name) && d.Size() > 0 &&
			!match.NewPlan(settings, d.Source, nil, time.Local).Timed() {
			v.Notes = slices.DeleteFunc(v.Notes, func(n string) bool { return strings.HasPrefix(n, newestNote) })
			v.Notes = append([]string{fmt.Sprintf("The entries of %s say no time, so all of them stand at %s "+
				"here; a layout with a time would tell them apart.", d.Source.Name, api.Moment(d.Arrived))},
				v.Notes...)
			break
		}
	}
	v.Tried = &api.BenchTried{Entries: tried.Entries, Hits: tried.Hits, Raised: tried.Raised, Open: tried.Open,
		Told: tried.Told, Keys: tried.Keys, Ends: tried.Ends, Longest: tried.Longest, Median: tried.Median,
		Took: took}
	of := fmt.Sprintf("%s, the last %s", whereOf(r), entry.RoughSpan(q.Span.Round(time.Minute)))
	switch {
	case len(q.Files) > 0:
		of = strings.Join(q.Files, ", ")
	case older:
		of = fmt.Sprintf("%s, its newest up to %s, since the last %s said nothing", whereOf(r), api.Moment(newest),
			entry.RoughSpan(q.Span.Round(time.Minute)))
	}
	if q.Filter != "" {
		of += ", only with " + q.Filter
	}
	entries := humanize.Comma(tried.Entries) + " entries"
	if tried.Entries == 1 {
		entries = "1 entry"
	}
	v.Sample = fmt.Sprintf("%s: %s, %s, in %.2f s", of, entries, humanize.Bytes(uint64(b.bytes)), took.Seconds())
	if b.cut {
		v.Sample += "; of larger logs their newest part"
	}
	for i := range tried.Rows {
		v.Rows = append(v.Rows, benchRow(r, &tried.Rows[i], q, at))
	}
	if len(r.Whens()) > 0 && len(tried.Rows) > 0 {
		key, said := tried.Rows[0].Key, b.said
		if host := tried.Rows[0].Reporter; host != "" {
			key, said = key[:len(key)-1], slices.DeleteFunc(slices.Clone(said), func(d *trial.Said) bool {
				return d.Reporter != host
			})
		}
		if v.Curves, err = benchCurves(settings, r, key, said, q,
			trial.Options{Zone: time.Local, From: bounded(from), To: until, Stop: ctx.Err}, at); err != nil {
			return nil, err
		}
	}
	says := trial.SaysOf(settings, r, b.kinds, tried.Some.Of, time.Local, at)
	v.Kinds = benchKinds(says)
	v.Complete, v.Typed = author.Complete(settings, r, says, q.Body, q.Line, q.Col)
	return v, nil
}

// saidBefore is when a rule's logs have said something last, where all of it lies before an instant, else
// None.
func saidBefore(sn *snapshot.Snapshot, r *lang.Rule, from entry.Instant) entry.Instant {
	last := entry.None
	for _, o := range sn.Origins {
		if !r.LooksAt(o.Source.Name) || o.Source.Name == lang.Itself || o.Source.Off {
			continue
		}
		newest := o.Reached()
		if newest == entry.None { // nothing was read of it: when it was written
			if info, err := os.Stat(o.Newest()); err == nil {
				newest = entry.Of(info.ModTime())
			}
		}
		if newest == entry.None || newest >= from {
			return entry.None
		}
		last = entry.Later(last, newest)
	}
	return last
}

// mostOfKind is how many findings of a kind are shown, nearest to the cursor.
const mostOfKind = 20

// benchFindings are what is wrong in a file, and how many errors and findings there are in all.
func benchFindings(ds []lang.Diagnostic, file string, line int) (out []api.BenchFinding, errors, doubts int) {
	out = []api.BenchFinding{}
	kinds := map[string][]lang.Diagnostic{}
	var order []string
	for _, d := range ds {
		if d.Pos.File != file {
			continue
		}
		switch d.Weight {
		case lang.Err:
			errors++
		case lang.Finding:
			doubts++
		}
		if kinds[d.Code] == nil {
			order = append(order, d.Code)
		}
		kinds[d.Code] = append(kinds[d.Code], d)
	}
	for _, code := range order {
		list := kinds[code]
		more := len(list) - mostOfKind
		if more > 0 {
			slices.SortStableFunc(list, func(a, b lang.Diagnostic) int {
				return cmp.Compare(max(a.Pos.Line-line, line-a.Pos.Line), max(b.Pos.Line-line, line-b.Pos.Line))
			})
			list = list[:mostOfKind]
			slices.SortStableFunc(list, func(a, b lang.Diagnostic) int { return cmp.Compare(a.Pos.Line, b.Pos.Line) })
		}
		for i, d := range list {
			f := api.BenchFinding{Line: d.Pos.Line, Col: d.Pos.Col, Len: d.Len, Error: d.Weight == lang.Err,
				What: d.What, Mend: d.Mend}
			if more > 0 && i == len(list)-1 {
				f.What += fmt.Sprintf(" (and so %s more times)", humanize.Comma(int64(more)))
			}
			out = append(out, f)
		}
	}
	return out, errors, doubts
}

func benchKinds(list []trial.KindSays) []api.BenchKind {
	out := []api.BenchKind{}
	for _, k := range list {
		out = append(out, api.BenchKind{ID: k.Shape.ID, Source: k.Source, Origin: k.Origin, Text: k.Text,
			Count: k.Shape.Count, Newest: k.Newest, Is: k.Is, Partly: k.Partly, Note: k.Note, Example: k.Example,
			Lit: k.Lit, Fields: k.Fields})
	}
	return out
}

// kindsBeside are the kinds of entries of the sources that a rule names which cannot be
// tried as it stands.
func (s *Workbench) kindsBeside(ctx context.Context, settings *lang.Settings, q api.BenchQuery,
	at entry.Instant) ([]trial.KindSays, error) {
	p, _ := lang.Parse("text", []byte(q.Body)).RuleNear(q.Line)
	r := &lang.Rule{}
	for _, c := range p.Clauses {
		if c.Word != "on" {
			continue
		}
		for _, n := range c.Words {
			if settings.Source(n) != nil {
				r.On = append(r.On, n)
			}
		}
	}
	if len(r.On) == 0 {
		return nil, nil
	}
	b, err := s.benchSampleOf(ctx, settings, r, q, at.Add(-q.Span), at)
	if err != nil {
		return nil, err
	}
	return trial.SaysOf(settings, r, b.kinds, nil, time.Local, at), nil
}

// BenchNew proposes the beginning of a rule about a source, in a file of its own.
func (s *Workbench) BenchNew(_ context.Context, q api.BenchBegin) (*api.BenchFile, error) {
	sn := s.Window.Now()
	source := q.Source
	for _, src := range sn.Settings.Sources {
		if src.Name != lang.Itself && !src.Off && source == "" {
			source = src.Name
		}
	}
	if source == "" {
		return nil, fmt.Errorf("no source is written yet: + in the room sources brings in a log")
	}
	name := "new-rule"
	for n := 2; ; n++ {
		file := filepath.Join(s.Window.Now().Folder(), name+".lantern")
		if _, err := os.Stat(file); os.IsNotExist(err) && sn.Settings.Rule(name) == nil {
			return &api.BenchFile{File: file, Body: fmt.Sprintf("rule %s {\n  on    %s\n  per   host\n  raise "+
				"warning\n  clear after 30m quiet\n}\n", name, source)}, nil
		}
		name = fmt.Sprintf("new-rule-%d", n)
	}
}

// bounded is a bound of a replay; 0 stays none.
func bounded(from entry.Instant) entry.Instant {
	if from == 0 {
		return 0
	}
	return max(from, 1)
}

// Others tries other numbers in the place of the one at the cursor,
// or next behind it: a threshold, a window, a time of quiet.
func (s *Workbench) Others(ctx context.Context, q api.BenchQuery) (*api.BenchOthers, error) {
	out := &api.BenchOthers{}
	settings, r, at := s.benchRule(q)
	lines := strings.Split(q.Body, "\n")
	if r == nil || q.Line < 1 || q.Line > len(lines) || !steps.MatchString(lines[q.Line-1]) {
		return out, nil
	}
	from, until := at.Add(-q.Span), at+1
	if len(q.Files) > 0 {
		from, until = 0, 0
	}
	b, err := s.benchSampleOf(ctx, settings, r, q, from, at)
	if err != nil {
		return nil, err
	}
	line := lines[q.Line-1]
	col := min(len(string([]rune(line)[:min(q.Col, len([]rune(line)))])), len(line))
	try := func(text string) (int64, bool) {
		lines[q.Line-1] = text
		other := q
		other.Body = strings.Join(lines, "\n")
		with, x, _ := s.benchRule(other)
		if x == nil {
			return 0, false
		}
		tried, err := b.try(with, x, trial.Options{Zone: time.Local, From: bounded(from), To: until, Stop: ctx.Err})
		return tried.Raised, err == nil
	}
	var words []string
	add := func(text string, col int) {
		if n, ok := try(text); ok {
			words = append(words, fmt.Sprintf("%s gives %s", lang.NumberAt(text, col),
				english.Plural(int(n), "alert", "alerts")))
		}
	}
	if bareRaise.MatchString(line) {
		for _, more := range []string{"at 2 in 5m", "at 3 in 5m", "at 5 in 10m"} {
			if n, ok := try(strings.TrimRight(line, " ") + " " + more); ok {
				words = append(words, fmt.Sprintf("%s gives %s", more, english.Plural(int(n), "alert", "alerts")))
			}
		}
	}
	for _, up := range []bool{false, true} {
		text, at := line, col
		for range othersEach {
			next, place, ok := lang.Stepped(text, at, up)
			if !ok {
				break
			}
			text, at = next, place
			add(text, at)
		}
		if !up && !bareRaise.MatchString(line) { // the farthest first
			slices.Reverse(words)
		}
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	out.Words = strings.Join(words, ", ")
	return out, nil
}

// othersEach is how many other numbers are tried in each direction.
const othersEach = 2

// steps are the clauses whose numbers are worth trying others of.
var steps = regexp.MustCompile(`^\s*(raise|clear|reopen|grace|blind)\b`)

// bare is a raise that each hit makes.
var bareRaise = regexp.MustCompile(`^\s*raise\s+\w+\s*$`)

func whereOf(r *lang.Rule) string {
	if len(r.On) == 0 {
		return "all sources"
	}
	return strings.Join(r.On, ", ")
}

// benchSampleOf reads what the logs of a rule have said in a stretch of time, or takes what
// was read for it lately.
func (s *Workbench) benchSampleOf(ctx context.Context, settings *lang.Settings, r *lang.Rule, q api.BenchQuery, from,
	at entry.Instant) (*benchSample, error) {
	s.bench.mu.Lock()
	defer s.bench.mu.Unlock()
	var names []string
	layouts := ""
	for _, src := range settings.LookedAt(r) {
		if !src.Off {
			names = append(names, src.Name)
			layouts += fmt.Sprint(src.LayoutName(), src.Entry != nil, src.Zone, settings.Zone)
			if l := settings.Layout(src.LayoutName()); l != nil {
				layouts += l.Meaning()
			}
		}
	}
	live := q.At == 0 && len(q.Files) == 0
	stamp := fmt.Sprint(from, at)
	switch {
	case live && from == 0:
		stamp = "all"
	case live:
		stamp = fmt.Sprint(at.Sub(from))
	case len(q.Files) > 0:
		stamp = strings.Join(q.Files, "\x00")
	}
	key := fmt.Sprintf("%q %q %s %s %s", names, r.For, stamp, layouts, q.Filter)
	if b := s.bench.now; b != nil && key == b.key && intact(b.said) &&
		(!live || time.Since(b.read) < max(benchStale, 20*b.took) || b.others && time.Since(b.read) < othersStale) {
		return b, nil
	}
	start := time.Now()
	var inputs []*trial.Input
	var done func()
	var err error
	if len(q.Files) > 0 {
		if inputs, done, err = filesSample(settings, r, q.Files, s.Window.Now().Host); err != nil {
			return nil, err
		}
	} else {
		inputs, done = s.Window.Now().Again(settings, from, []*lang.Rule{r}, benchMost(), true)
	}
	keep := false // then they are closed with what is made of them, when nobody has it any more
	defer func() {
		if !keep {
			done()
		}
	}()
	s.bench.now = nil // before the next one is read: there is room for one
	defer s.does.Store("")
	next := &benchSample{key: key, read: time.Now(), recall: &trial.Recall{}}
	share := benchMost() / int64(max(len(inputs), 1))
	read, told := int64(0), int64(0)
	for _, in := range inputs {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		d := &trial.Said{Input: *in}
		d.Files = nil
		cut, kept, err := hold(ctx, d, in.Files, share, func(n int) {
			if read += int64(n); read-told > 16<<20 {
				told = read
				s.does.Store("reading the sample: " + humanize.Bytes(uint64(read)) + " so far")
			}
		})
		if err != nil {
			if len(q.Files) > 0 || ctx.Err() != nil {
				return nil, err
			}
			continue // what cannot be read is told in the room sources
		}
		keep = keep || kept
		d.Arrived = arrived(in.Near, from, at)
		if q.Filter != "" {
			filtered(settings, d, q.Filter)
		}
		d.Know(settings, time.Local)
		next.said = append(next.said, d)
		next.bytes += d.Size()
		next.cut = next.cut || cut
	}
	if len(q.Files) == 0 {
		var sources []*lang.Source
		for _, name := range names {
			sources = append(sources, settings.Source(name))
		}
		said, cut, without := s.sampleOfHosts(ctx, r, sources, from)
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		next.others, next.cut, next.without = len(said)+len(without) > 0, next.cut || cut, without
		for _, d := range said {
			d.Arrived = arrived(d.Near, from, at)
			if q.Filter != "" {
				filtered(settings, d, q.Filter)
			}
			d.Know(settings, time.Local)
			next.said = append(next.said, d)
			next.bytes += d.Size()
		}
	}
	if next.bytes > 32<<20 {
		s.does.Store("finding the kinds of entries in " + humanize.Bytes(uint64(next.bytes)))
	}
	kinds, err := trial.KindsOf(settings, newestPart(next.said, kindsMost), time.Local, ctx.Err)
	if err != nil {
		return nil, err
	}
	next.kinds, next.took = kinds, time.Since(start)
	s.bench.now = next
	return next, nil
}

// arrived is when the entries of a log that gives no times are taken to have come: when its
// file was changed, as far as that lies in the sample.
func arrived(changed, from, at entry.Instant) entry.Instant {
	if changed == entry.None || changed > at {
		return at
	}
	return max(changed, from)
}

// benchRow is a lifeline as the screens draw it.
func benchRow(r *lang.Rule, x *trial.TriedRow, q api.BenchQuery, at entry.Instant) api.Row {
	row := api.Row{Rule: r.Name, Key: x.Key, Raised: entry.None, Cleared: entry.None, Since: entry.None,
		Count: len(x.Hits), Have: len(x.Alerts)}
	row.Life.Hits = make([]int, q.Columns)
	for _, h := range x.Hits {
		if k := int(h.Sub(q.From) / q.Column); h >= q.From && k < q.Columns {
			row.Life.Hits[k]++
		}
	}
	for _, a := range x.Alerts {
		span := api.Span{From: a.From, To: a.To, Why: a.Why}
		for _, st := range a.Steps {
			span.Steps = append(span.Steps, api.Step{At: st.At, Severity: st.Severity})
			row.Severity = max(row.Severity, st.Severity)
		}
		row.Life.Alerts = append(row.Life.Alerts, span)
	}
	if n := len(x.Alerts); n > 0 {
		row.Raised, row.Cleared = x.Alerts[n-1].From, x.Alerts[n-1].To
	}
	return row
}

// BenchOpen answers with a settings file of the folder, as it is now.
func (s *Workbench) BenchOpen(_ context.Context, q api.BenchFile) (*api.BenchFile, error) {
	sn := s.Window.Now()
	if kit := sn.Settings.KitOf(lang.Pos{File: q.File}); kit != "" {
		return s.openKit(sn, q, kit)
	}
	if err := s.ownFile(q.File); err != nil {
		return nil, err
	}
	b, err := regular.Read(q.File, folder.MaxFile)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", q.File, folder.Reason(err))
	}
	return &api.BenchFile{File: q.File, Body: string(b)}, nil
}

// BenchWrite writes a settings file and has it taken up, unless somebody else has changed it
// meanwhile, or it has errors.
func (s *Workbench) BenchWrite(ctx context.Context, q api.WriteQuery) (*api.Written, error) {
	if err := s.ownFile(q.File); err != nil {
		return nil, err
	}
	sn := s.Window.Now()
	_, ds := sn.Check(folder.With(sn.Texts, q.File, q.Body))
	for _, d := range ds {
		if d.Weight == lang.Err && d.Pos.File == q.File {
			return nil, fmt.Errorf("line %d: %s; nothing is written", d.Pos.Line, d.What)
		}
	}
	if q.New {
		if err := folder.WriteNew(q.File, q.Body); err != nil {
			return nil, err
		}
	} else {
		now, err := regular.Read(q.File, folder.MaxFile)
		switch {
		case err != nil:
			return nil, fmt.Errorf("%s cannot be read: %w", q.File, folder.Reason(err))
		case string(now) != q.Was:
			return nil, changedByOthers(q.File)
		}
		if err := folder.Replace(q.File, q.Body); err != nil {
			return nil, err
		}
	}
	if s.Window.Now().Settings.ByHand {
		return &api.Written{ByHand: true}, nil
	}
	said, err := s.TakeUp(ctx, store.Action{By: q.Name(), From: q.From, Words: "saved on the bench"}, "")
	return &api.Written{Said: said}, err
}

// ownFile refuses what is no settings file of this service.
func (s *Workbench) ownFile(path string) error {
	if filepath.Ext(path) != ".lantern" || filepath.Dir(path) != filepath.Clean(s.Window.Now().Folder()) {
		return fmt.Errorf("%s is no settings file of %s", path, s.Window.Now().Folder())
	}
	return nil
}
