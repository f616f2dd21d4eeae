package query

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/folder"
	"dimlantern/intake"
	"dimlantern/intake/reread"
)

// Sought is what a person looks for among entries.
type Sought struct {
	Settings *lang.Settings
	Words    []string // nil where it is an expression

	rule *lang.Rule
}

// soughtRule is how the rule is called by which entries are found.
const soughtRule = "what-is-sought"

// operator is what no words have, but expressions.
var operator = regexp.MustCompile(`==|!=|>=|<=|\w [<>](?: |$)|!?~ ?/|["` + "`" + `]| in \(`)

// Seek reads what a person looks for in sources: an EXPR of the language, or else words. An
// EXPR that is not understood is answered with an *api.Problem.
func Seek(texts []folder.Text, sources []string, typed string) (*Sought, error) {
	typed = strings.Join(strings.Fields(typed), " ")
	if typed == "" {
		return nil, &api.Problem{Code: api.Refused, What: "nothing is looked for", Mend: "give words, or an " +
			"expression " +
			"such as level >= warning"}
	}
	expr := func(x string) (*Sought, []lang.Diagnostic) {
		on := ""
		if len(sources) > 0 {
			on = "on " + strings.Join(sources, ", ") + "\n"
		}
		body := "rule " + soughtRule + " {\n" + on + "problem " + x + "\nper nothing\nraise notice\nclear by hand\n}\n"
		settings, ds := folder.Check(append(slices.Clone(texts), folder.Text{Name: soughtRule, Body: body}))
		ds = slices.DeleteFunc(ds, func(d lang.Diagnostic) bool {
			return d.Pos.File != soughtRule || d.Weight != lang.Err && d.Code != "unknown-field"
		})
		return &Sought{Settings: settings, rule: settings.Rule(soughtRule)}, ds
	}
	x, ds := expr(typed)
	switch {
	case len(ds) == 0 && x.rule != nil:
		return x, nil
	case operator.MatchString(typed) && len(ds) > 0:
		return nil, &api.Problem{Code: api.Refused, What: ds[0].What, Mend: ds[0].Mend}
	}
	words := strings.Fields(typed)
	x, ds = expr(match.WordsExpr(words))
	if len(ds) > 0 || x.rule == nil {
		return nil, &api.Problem{Code: api.Refused, What: "these are no words that can be looked for: " + typed}
	}
	x.Words = words
	return x, nil
}

// Expr is the expression.
func (x *Sought) Expr() lang.Expr { return x.rule.Problem }

// In looks for it in a source.
func (x *Sought) In(src *lang.Source, zone *time.Location) *match.Sought {
	return match.NewSought(x.Settings, x.Settings.Source(src.Name), x.rule, x.Words, zone)
}

// Log is a log in which entries are looked for.
type Log = reread.Log

// findFor is how long an answer looks before it says what it has found so far; a part of a
// file, and a packed one as a whole, is looked through all the same.
const findFor = 150 * time.Millisecond

// Find looks for entries, newest first.
func (s *Asker) Find(ctx context.Context, q api.FindQuery) (*api.Found, error) {
	sn := s.Window.Now()
	var logs []Log
	var sources []string
	for _, o := range sn.Origins {
		if q.Where == api.InOrigin && o.Name != q.Origin || q.Where == api.InSource && o.Source.Name != q.Source {
			continue
		}
		logs = append(logs, Log{Name: o.Name, Series: o.Series, Host: o.Host, Source: o.Source, Skew: o.Skew()})
		if !slices.Contains(sources, o.Source.Name) {
			sources = append(sources, o.Source.Name)
		}
	}
	switch {
	case q.Where == api.InAll:
		sources = nil
	case len(logs) == 0 && q.Where == api.InOrigin:
		return nil, NoOrigin(q.Origin)
	case len(logs) == 0:
		return nil, &api.Problem{Code: api.Unknown, What: "no log is there of a source " + q.Source}
	}
	sought, err := Seek(sn.Texts, sources, q.Text)
	if err != nil {
		return nil, err
	}
	sought.Settings.Secret = sn.Settings.Secret
	return FindIn(ctx, sought, logs, q, findFor)
}

// FindIn looks for entries in logs, newest first, for so long or until all is looked through.
func FindIn(ctx context.Context, sought *Sought, logs []Log, q api.FindQuery, most time.Duration) (*api.Found, error) {
	f := &finding{sought: sought, q: q, out: &api.Found{Expr: sought.Words == nil}, place: q.Go,
		sources: map[string]*match.Sought{}, unread: map[string]bool{}}
	if f.q.At == 0 {
		f.q.At = entry.Of(time.Now().AddDate(100, 0, 0))
	}
	if f.q.From == 0 {
		f.q.From = entry.None
	}
	if f.place == nil {
		f.place = begun(logs)
	}
	began := time.Now()
	for f.next(ctx, logs) && time.Since(began) < most {
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	return f.end(), nil
}

// begun is the place where looking begins: at the ends of all logs.
func begun(logs []Log) *api.FindPlace {
	p := &api.FindPlace{}
	for _, o := range logs {
		log := api.FindLog{Origin: o.Name, End: -1, Until: entry.None}
		for i, m := range o.Members() {
			if i == 0 {
				log.Until = m.Mod
			}
			log.Left += m.Size
		}
		p.Of += log.Left
		if log.Left > 0 {
			p.Logs = append(p.Logs, log)
		}
	}
	return p
}

// finding is an answer while it is made.
type finding struct {
	sought  *Sought
	q       api.FindQuery
	out     *api.Found
	place   *api.FindPlace
	sources map[string]*match.Sought
	unread  map[string]bool
}

// next looks through a part of the log that may hold the newest entries; false where nothing is
// left.
func (f *finding) next(ctx context.Context, logs []Log) bool {
	if ctx.Err() != nil || len(f.place.Logs) == 0 {
		return false
	}
	best := 0
	for i, l := range f.place.Logs {
		if l.Until > f.place.Logs[best].Until {
			best = i
		}
	}
	log := &f.place.Logs[best]
	i := slices.IndexFunc(logs, func(o Log) bool { return o.Name == log.Origin })
	if i < 0 || log.Until < f.q.From || !f.part(ctx, logs[i], log) {
		f.place.Logs = slices.Delete(f.place.Logs, best, best+1)
	}
	return len(f.place.Logs) > 0
}

// part looks through the part of a log that comes before what is done; false where that was
// all of it.
func (f *finding) part(ctx context.Context, o Log, log *api.FindLog) bool {
	members := o.Members()
	at := 0
	if log.Path != "" {
		at = slices.IndexFunc(members, func(m intake.Member) bool { return m.Path == log.Path })
		if at < 0 { // it was renamed or deleted meanwhile: the rest of it cannot be told from others
			return false
		}
		if log.End == 0 {
			at, log.End = at+1, -1
		}
	}
	if at >= len(members) {
		return false
	}
	m := members[at]
	log.Path = m.Path
	s := f.sources[o.Source.Name]
	if s == nil {
		s = f.sought.In(o.Source, time.Local)
		f.sources[o.Source.Name] = s
	}
	var found []api.FoundEntry
	skew := o.Skew
	oldest := entry.None
	take := func(p intake.Part) {
		s.In(p.Text, p.Start, o.Name, o.Host, p.Header, m.Mod, func(e match.SoughtEntry) {
			if e.At != entry.None {
				e.At = e.At.Add(skew)
				if e.At > f.q.At || e.At < f.q.From {
					return
				}
			}
			found = append(found, api.FoundEntry{Source: o.Source.Name, Origin: o.Name, Offset: e.Offset,
				EntryView: entryView(s.Plan(), e.Raw, e.At, &e.Division)})
			if len(found) > 2*f.q.Lines { // the newest ones of it are enough
				found = append(found[:0], found[len(found)-f.q.Lines:]...)
			}
		})
	}
	was := s.Looked
	if m.Packed {
		err := intake.Forward(ctx, m.Path, s.Plan(), func(p intake.Part) error { take(p); return nil })
		f.cannot(m.Path, err)
		log.Left, log.End = log.Left-m.Size, 0
	} else {
		p, err := intake.Before(m.Path, s.Plan(), log.End)
		if f.cannot(m.Path, err) {
			log.End = 0
		} else {
			end := log.End
			if end < 0 {
				end = m.Size
			}
			take(p)
			log.Left, log.End = log.Left-(end-p.Start), p.Start
			oldest, _ = match.NewReader(s.Plan(), o.Name, o.Host, false).Times(p.Text[:min(len(p.Text), 64<<10)], m.Mod)
		}
	}
	f.out.Looked += s.Looked - was
	slices.Reverse(found)
	f.out.Lines = append(f.out.Lines, found...)
	switch {
	case oldest != entry.None:
		log.Until = min(log.Until, oldest.Add(skew))
	case log.End == 0 && at+1 < len(members):
		log.Until = min(log.Until, members[at+1].Mod)
	}
	return log.End != 0 || at+1 < len(members)
}

// cannot notes that a file cannot be read.
func (f *finding) cannot(path string, err error) bool {
	if err == nil || err == context.Canceled {
		return err != nil
	}
	if !f.unread[path] {
		f.unread[path] = true
		f.out.Unread = append(f.out.Unread, fmt.Sprintf("%s cannot be read: %v", filepath.Base(path), folder.Reason(
			err)))
	}
	return true
}

// end is the answer.
func (f *finding) end() *api.Found {
	slices.SortStableFunc(f.out.Lines, func(a, b api.FoundEntry) int { return cmp.Compare(b.At, a.At) })
	f.out.Lines = f.out.Lines[:min(len(f.out.Lines), max(f.q.Lines, 1))]
	f.out.Until = entry.None
	for _, l := range f.place.Logs {
		f.out.Left += max(l.Left, 0)
		f.out.Until = entry.Later(f.out.Until, l.Until)
	}
	if len(f.place.Logs) > 0 {
		f.out.Go = f.place
	}
	return f.out
}
