package workbench

import (
	"bytes"
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
	"dimlantern/core/match"
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
		name = sourceName("/"+strings.ReplaceAll(name, "/", "-"), taken)
		wayLayouts(b, settings, kind, q.Layout)
		b.Text = wayText(name, clause, begin, b.Layout, kind)
		return s.bringText(b, name, q.Write)
	}
	if strings.HasPrefix(path, "~/") {
		if home, err := os.UserHomeDir(); err == nil {
			path = filepath.Join(home, path[2:])
		}
	}
	if !filepath.IsAbs(path) {
		b.Words = "a path begins with /; what is no file begins with one of: " + strings.Join(OfferWords, ", ")
		return b, nil
	}
	readable := ""
	for _, f := range intake.Find(path, 8) {
		b.Files = append(b.Files, api.BroughtFile(f))
		if f.Words == "" {
			readable = f.Path
			b.Copies += intake.Copies(f.Path)
		}
	}
	if len(b.Files) == 0 {
		b.Words = "no file fits this path yet; it is taken up when it appears"
	}
	name := sourceName(path, taken)
	found := sampleOf(b, settings, readable, q.Layout)
	if found != nil {
		b.Text = author.SourceText(found, name, author.OwnLayout(settings, name), []string{lang.Quote(path)}, begin)
	} else {
		b.Text = lang.Parse("new", []byte(fmt.Sprintf("source %s {\nfiles %s\nbegin %s\nlayout %s\n}\n", name,
			lang.Quote(path), begin, b.Layout))).Format()
	}
	return s.bringText(b, name, q.Write)
}

// bringText says where the text would be written, or writes it.
func (s *Workbench) bringText(b *api.Brought, name string, write bool) (*api.Brought, error) {
	b.Name = filepath.Join(s.Window.Now().Folder(), name+".lantern")
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

// sample looks at the end of a file: which of the layouts that are written fits it
// best, what else would fit, and entries of the usual and of the odd kinds. It returns
// the proposal that was chosen; nil where that is a layout which is there.
func sampleOf(b *api.Brought, settings *lang.Settings, path, want string) *layout.Proposal {
	b.Layout = "plain"
	var lines [][]byte
	if path != "" {
		plan := match.NewPlan(settings, &lang.Source{Name: "new"}, nil, time.Local)
		if text, err := intake.Tail(path, plan, entry.Of(time.Now().Add(24*time.Hour)), 256<<10); err == nil {
			for _, l := range bytes.Split(bytes.TrimSuffix(text, []byte{'\n'}), []byte{'\n'}) {
				if len(l) > 0 {
					lines = append(lines, bytes.TrimSuffix(l, []byte{'\r'}))
				}
			}
		}
	}
	b.Looked = len(lines)
	now := entry.Of(time.Now())
	for _, l := range settings.Layouts {
		d := layout.Divider{Layout: layout.Compile(l, time.Local, settings.Secret)}
		fit := api.LayoutFit{Name: l.Name}
		for _, x := range lines {
			if d.Divide(x, now).Fits {
				fit.Fits++
			}
		}
		b.Layouts = append(b.Layouts, fit)
	}
	sort.SliceStable(b.Layouts, func(i, j int) bool { return b.Layouts[i].Fits > b.Layouts[j].Fits })
	if len(b.Layouts) > 0 && b.Layouts[0].Fits*10 > 9*len(lines) && len(lines) > 0 {
		b.Layout = b.Layouts[0].Name
	}
	none := b.Layouts // those that fit nothing come behind what was found
	for i, x := range b.Layouts {
		if none = b.Layouts[i:]; x.Fits == 0 {
			break
		}
		none = nil
	}
	none = slices.Clone(none)
	b.Layouts = b.Layouts[:len(b.Layouts)-len(none)]
	var texts []string
	for _, x := range lines {
		texts = append(texts, valid(x))
	}
	found := map[string]*layout.Proposal{}
	var order []string
	for _, p := range layout.Detect(texts, now) {
		if p.Name == "plain" {
			continue
		}
		name := foundAs + p.What
		if p.Name != "" && p.Starts == "" {
			name = p.Name
		}
		if found[name] == nil {
			found[name] = &p
			order = append(order, name)
			b.Layouts = append(b.Layouts, api.LayoutFit{Name: name, Fits: p.Fits})
		}
	}
	b.Layouts = append(append(b.Layouts, api.LayoutFit{Name: "plain", Fits: len(lines)}), none...)
	if b.Layout == "plain" && len(order) > 0 {
		b.Layout = order[0]
	}
	if slices.ContainsFunc(b.Layouts, func(x api.LayoutFit) bool { return x.Name == want }) {
		b.Layout = want
	}
	p := found[b.Layout]
	l := settings.Layout(b.Layout)
	if p != nil {
		l, _ = p.Layout()
	}
	kindsOf(b, lines, layout.Compile(l, time.Local, settings.Secret), now)
	return p
}

// kinds picks entries of the commonest and of the rarest shapes.
func kindsOf(b *api.Brought, lines [][]byte, l *layout.Layout, now entry.Instant) {
	shapes := layout.NewShaper()
	for _, x := range lines {
		shapes.Add(x)
	}
	d := layout.Divider{Layout: l}
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
