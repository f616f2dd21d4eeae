package workbench

import (
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
	"dimlantern/folder"
	"dimlantern/intake"
)

// KitFit says how well a source of a kit fits a log.
type KitFit struct {
	Kit, Source string
	Entries     int // of the log's head and end that were looked at
	Fits        int // of them, those that the source's layout fits and that a program of the kit wrote
	ByPath      bool
	Fields      int // into which the entries that fit are divided, together
}

// FitKits tries the sources of kits on a log, and answers with those that fit more than one entry in ten, the best
// first. Where kits fit alike, the one whose files lie where the log does goes before the others.
func FitKits(settings, path string, names []string) ([]KitFit, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		abs = path
	}
	var out []KitFit
	for _, name := range names {
		s, _, ds, err := folder.LoadKit(settings, name)
		if err != nil {
			return nil, err
		}
		if lang.Errors(ds) || len(s.Kits) == 0 {
			continue
		}
		var best KitFit
		for _, src := range s.Sources {
			if len(src.Files) == 0 || src.Off {
				continue
			}
			f, err := fitSource(s, s.Kits[0], src, path)
			if err != nil {
				return nil, err
			}
			f.ByPath = intake.Fits(src, abs) || strings.Contains(abs, name)
			if best.Source == "" || f.better(best) {
				best = f
			}
		}
		if best.Fits > 1 && 10*best.Fits > best.Entries {
			out = append(out, best)
		}
	}
	slices.SortStableFunc(out, func(a, b KitFit) int {
		switch {
		case a.better(b):
			return -1
		case b.better(a):
			return 1
		}
		return 0
	})
	return out, nil
}

func (f KitFit) better(than KitFit) bool {
	if a, b := 20*f.Fits/max(f.Entries, 1), 20*than.Fits/max(than.Entries, 1); a != b {
		return a > b
	}
	if f.ByPath != than.ByPath {
		return f.ByPath
	}
	return f.Fields > than.Fields // the one that knows more of it
}

// fitSource tries one source of a kit on a log.
func fitSource(s *lang.Settings, k *lang.Kit, src *lang.Source, path string) (KitFit, error) {
	out := KitFit{Kit: k.Name, Source: src.Name}
	lines, near, err := intake.Ends(path)
	if err != nil {
		return out, err
	}
	plan := match.NewPlan(s, src, nil, time.Local)
	d := &layout.Divider{Layout: plan.Layout}
	speaks := speakersOf(s, k)
	timed := plan.Layout.Timed()
	asks := false
	if l := s.Layout(src.LayoutName()); l != nil {
		asks = slices.Contains(l.Fields(), "program")
	}
	plan.Entries([]byte(strings.Join(lines, "\n")+"\n"), func(line []byte) {
		if len(strings.TrimSpace(string(line))) == 0 {
			return
		}
		out.Entries++
		if d.See(line) { // a header
			return
		}
		x := d.Divide(line, near)
		if !x.Fits || timed && !x.Timed {
			return
		}
		if asks {
			i := slices.IndexFunc(x.Fields, func(f entry.Field) bool { return f.Name == "program" })
			if i < 0 || !speaks(x.Fields[i].Value) {
				return
			}
		}
		out.Fits++
		out.Fields += len(x.Fields)
	})
	return out, nil
}

// speakersOf tells of a program whether the kit is about what it says: it needs it, or a rule of it asks for it.
func speakersOf(s *lang.Settings, k *lang.Kit) func(program string) bool {
	names, patterns := map[string]bool{k.Name: true}, []*lang.Pattern{}
	for _, n := range k.Needs {
		for _, w := range n {
			if w.Kind == "program" {
				names[w.Name] = true
			}
		}
	}
	for _, r := range s.Rules {
		for _, x := range r.Exprs() {
			lang.Walk(x.Expr, func(part lang.Expr, under bool) {
				switch e := part.(type) {
				case *lang.Compare:
					if e.Field == "program" && e.Op == "==" && !under {
						names[e.Value.Text] = true
					}
				case *lang.In:
					if e.Field == "program" && !under {
						for _, v := range e.Values {
							names[v.Text] = true
						}
					}
				case *lang.Match:
					if e.Field == "program" && !e.Neg && !under {
						patterns = append(patterns, e.Pattern)
					}
				}
			})
		}
	}
	return func(program string) bool {
		return names[program] || slices.ContainsFunc(patterns, func(p *lang.Pattern) bool {
			return p.Re().MatchString(program)
		})
	}
}
