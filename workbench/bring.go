package workbench

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"dimlantern/core/author"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/folder"
	"dimlantern/intake"
)

// Bring proposes settings for a log that is not watched yet, and writes them where that is
// asked for.
func (s *Workbench) Bring(_ context.Context, q api.BringQuery) (*api.Brought, error) {
	settings := s.Window.Now().Settings
	taken := settings.Sources
	b := &api.Brought{}
	path := strings.TrimSpace(q.Path)
	if path == "" {
		return b, nil
	}
	begin := q.Begin
	if begin == "" {
		begin = "now"
	}
	if clause, name, kind, ok := s.bringWay(b, path, q.Layout); ok {
		if clause == "" {
			return b, nil
		}
		if name = sourceName("/"+strings.ReplaceAll(name, "/", "-"), taken); q.Name != "" {
			name = q.Name
		}
		wayLayouts(b, settings, kind, q.Layout)
		b.Text = wayText(name, clause, begin, b.Layout, kind)
		return s.bringText(b, name, q.Write)
	}
	if strings.HasPrefix(path, "~/") {
		if home, err := os.UserHomeDir(); err == nil {
			path = filepath.Join(home, path[2:])
		}
	}
	info, err := os.Stat(path)
	inside := err == nil && info.IsDir() // its files are meant
	if inside {
		path = filepath.Join(path, "*")
	}
	if !filepath.IsAbs(path) {
		b.Words = "a path begins with /; what is no file begins with one of: " + strings.Join(OfferWords, ", ")
		return b, nil
	}
	all := slices.DeleteFunc(intake.Find(path, mostFound), func(f intake.File) bool {
		info, err := os.Stat(f.Path)
		return inside && err == nil && info.IsDir()
	})
	logs := logsOf(all)
	b.Fit = len(logs)
	var samples []string
	called := map[string]string{} // how the log of each sample is called
	for _, l := range logs {
		if len(b.Files) < mostShown {
			b.Files = append(b.Files, api.BroughtFile(l.File))
		}
		if l.Words == "" {
			samples = append(samples, l.Path)
			called[l.Path] = l.series
			b.Copies += max(l.copies, intake.Copies(l.Path))
		}
	}
	if len(b.Files) == 0 {
		b.Words = "no file fits this path yet; it is taken up when it appears"
	}
	formats, err := s.looks.formatsOf(samples)
	if err != nil {
		b.Words = err.Error()
		formats, _ = s.looks.formatsOf(nil)
	}
	for _, f := range formats {
		for i, path := range f.Files {
			f.Files[i] = called[path]
		}
	}
	name := cmp.Or(q.Name, sourceName(path, taken))
	taken = append(slices.Clone(taken), &lang.Source{Name: name})
	found, starts := sampleOf(b, settings, formats[0], q.Layout)
	files := filesOf(formats, 0, path)
	if found != nil {
		b.Text = author.SourceText(found, name, author.OwnLayout(settings, name), files, begin)
	} else {
		b.Text = lang.Parse("new", []byte(fmt.Sprintf("source %s {\nfiles %s\nbegin %s\n%slayout %s\n}\n", name,
			strings.Join(files, ", "), begin, starts, b.Layout))).Format()
	}
	for i, f := range formats {
		if len(formats) > 1 {
			b.Formats = append(b.Formats, api.FileFormat{What: f.Proposals[0].Describe(), Files: f.Files})
		}
		if i > 0 {
			own := sourceName(f.Files[0], taken)
			taken = append(taken, &lang.Source{Name: own})
			b.Text += "\n" + f.Text(own, author.OwnLayout(settings, own), filesOf(formats, i, path), begin)
		}
	}
	return s.bringText(b, name, q.Write)
}

// mostFound is how many files a path may stand for of which the formats are looked at, and
// mostShown how many of them are named.
const (
	mostFound = 200
	mostShown = 8
)

// foundLog is a log that fits a path: the file of it that says most about how it is written, or
// one that cannot be read.
type foundLog struct {
	intake.File
	series string // the path that its files have their names from
	copies int
}

// logsOf puts the files together that are of one log.
func logsOf(files []intake.File) []foundLog {
	var out []foundLog
	by := map[string]intake.File{}
	var paths []string
	for _, f := range files {
		by[f.Path] = f
		paths = append(paths, f.Path)
	}
	for _, g := range intake.Grouped(paths) {
		l := foundLog{series: g.Name, copies: len(g.Files) - 1}
		for i, path := range g.Files { // oldest first
			if f := by[path]; i == 0 || f.Words == "" && (l.Words != "" || f.Size >= enoughToSee || f.Size > l.Size) {
				l.File = f
			}
		}
		out = append(out, l)
	}
	return out
}

// enoughToSee is how large a newer file of a log must be to be looked at instead of a larger
// older one, in bytes.
const enoughToSee = 16 << 10

// bringText says where the text would be written, or writes it.
func (s *Workbench) bringText(b *api.Brought, name string, write bool) (*api.Brought, error) {
	b.Source = name
	b.Name = filepath.Join(s.Window.Now().Folder(), name+".lantern")
	if !lang.IsName(name) || s.Window.Now().Settings.Source(name) != nil {
		b.Words, b.Text = "there is a source "+name+" already: give this one another name", ""
		if !lang.IsName(name) {
			b.Words = lang.NotAName(name).Error()
		}
		return b, nil
	}
	if !write {
		return b, nil
	}
	s.tries.end()
	if err := folder.WriteNew(b.Name, b.Text); err != nil {
		return nil, err
	}
	b.Done = true
	s.Reload()
	return b, nil
}

// foundAs is how a layout is called that is not written yet, but was found to fit.
const foundAs = "found: "

// sampleOf looks at a format: which of the layouts that are written fits its entries best and
// reads their times, what else would fit, and entries of the usual and of the odd kinds. It
// returns the proposal that was chosen; nil where that is a layout which is there, of which it
// says how entries start.
func sampleOf(b *api.Brought, settings *lang.Settings, f *Format, want string) (*layout.Proposal, string) {
	b.Layout = "plain"
	var good, bad []api.LayoutFit
	starts := map[string]string{}
	for _, l := range settings.Layouts {
		clause, pattern := startsOf(settings, l.Name)
		starts[l.Name] = clause
		c := layout.Compile(l, time.Local, settings.Secret)
		fit := layout.FitOf(c, layout.EntriesOf(f.lines, pattern), f.near)
		x := layoutFit(l.Name, fit)
		switch {
		case fit.Fits == 0:
			continue
		case 10*fit.Fits > 9*fit.Of && (10*fit.Timed > 9*fit.Fits || !c.Timed() && f.Proposals[0].Timed == 0) &&
			!l.GivesUp():
			good = append(good, x)
		default:
			bad = append(bad, x)
		}
	}
	sort.SliceStable(good, func(i, j int) bool { return good[i].Fits > good[j].Fits })
	sort.SliceStable(bad, func(i, j int) bool { return bad[i].Fits > bad[j].Fits })
	b.Layouts = good
	found := map[string]*layout.Proposal{}
	var order []string
	for i := range f.Proposals {
		p := &f.Proposals[i]
		if p.Name == "plain" {
			continue
		}
		name := foundAs + p.What
		if p.Name != "" && p.Starts == "" {
			name = p.Name
		}
		if found[name] == nil {
			found[name] = p
			order = append(order, name)
			b.Layouts = append(b.Layouts, layoutFit(name, p.Fit))
		}
	}
	b.Layouts = append(append(b.Layouts, layoutFit("plain", f.Proposals[len(f.Proposals)-1].Fit)), bad...)
	switch {
	case len(good) > 0:
		b.Layout = good[0].Name
	case len(order) > 0:
		b.Layout = order[0]
	}
	if slices.ContainsFunc(b.Layouts, func(x api.LayoutFit) bool { return x.Name == want }) {
		b.Layout = want
	}
	p := found[b.Layout]
	l := settings.Layout(b.Layout)
	_, pattern := startsOf(settings, b.Layout)
	if p != nil {
		l, _ = p.Layout()
		pattern = p.Starts
	}
	var entries [][]byte
	for _, e := range layout.EntriesOf(f.lines, pattern) {
		if strings.TrimSpace(e) != "" {
			entries = append(entries, []byte(e))
		}
	}
	b.Looked = len(entries)
	kindsOf(b, entries, layout.Compile(l, time.Local, settings.Secret), f.near)
	return p, starts[b.Layout]
}

func layoutFit(name string, f layout.Fit) api.LayoutFit {
	return api.LayoutFit{Name: name, Fits: f.Fits, Of: f.Of, Times: f.Times(time.Local)}
}

// startsOf is how entries start in the sources that use a layout: the clause, and its pattern;
// "" where each line is one.
func startsOf(settings *lang.Settings, name string) (clause, pattern string) {
	for _, src := range settings.Sources {
		if src.LayoutName() == name && src.Entry != nil && src.Entry.Starts != nil {
			return "entry starts " + src.Entry.Starts.String() + "\n", src.Entry.Starts.Source
		}
	}
	return "", ""
}

// kinds picks entries of the commonest and of the rarest shapes.
func kindsOf(b *api.Brought, lines [][]byte, l *layout.Layout, now entry.Instant) {
	shapes := layout.NewShaper()
	d := layout.Divider{Layout: l}
	for _, x := range lines {
		if l.Headed() && d.See(x) {
			continue
		}
		v := d.Divide(x, now)
		shapes.AddText([]byte(l.ShapeText(v.Fits, v.Fields, string(x))), x)
	}
	view := func(x []byte) api.EntryView {
		v := d.Divide(x, now)
		raw := v.Hide(valid(x))
		e := api.EntryView{At: entry.None, Raw: strings.ToValidUTF8(raw[:min(len(raw), 2000)], "\uFFFD"),
			Fits: v.Fits, Fields: v.HideFields()}
		if v.Timed {
			e.At = v.At
		}
		e.Text = e.Raw
		for _, f := range e.Fields {
			if f.Name == "text" {
				e.Text = f.Value
			}
		}
		return e
	}
	drawn := shapes.Draw(4, nil)
	for _, x := range drawn.Usual {
		b.Usual = append(b.Usual, view([]byte(x.Text)))
	}
	for _, x := range drawn.Odd[:min(len(drawn.Odd), 3)] {
		b.Odd = append(b.Odd, view([]byte(x.Text)))
	}
}

// sourceName makes a name of a path that no other source has.
func sourceName(path string, taken []*lang.Source) string {
	base := filepath.Base(path)
	base = strings.TrimSuffix(base, filepath.Ext(base))
	for dir := filepath.Dir(path); strings.Trim(base, "*?[]{}") == "" && dir != "/"; dir = filepath.Dir(dir) {
		base = filepath.Base(dir)
	}
	name := strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			return r
		case r >= 'A' && r <= 'Z':
			return r | 0x20
		}
		return '-'
	}, base), "-")
	for strings.Contains(name, "--") {
		name = strings.ReplaceAll(name, "--", "-")
	}
	if name == "" || name[0] < 'a' {
		name = strings.TrimSuffix("log-"+name, "-")
	}
	for n, want := 2, name; ; n++ {
		if !lang.Reserved(name) && !slices.ContainsFunc(taken, func(s *lang.Source) bool { return s.Name == name }) {
			return name
		}
		name = fmt.Sprintf("%s-%d", want, n)
	}
}

func valid(b []byte) string { return strings.ToValidUTF8(string(b), "\uFFFD") }
