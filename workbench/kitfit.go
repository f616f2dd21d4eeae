package workbench

import (
	"path/filepath"
	"slices"
	"strings"
	"time"

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
	return f.ByPath && !than.ByPath
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
	programs := programsOf(k)
	plan.Entries([]byte(strings.Join(lines, "\n")+"\n"), func(line []byte) {
		if len(strings.TrimSpace(string(line))) == 0 {
			return
		}
		out.Entries++
		if d.See(line) { // a header
			return
		}
		x := d.Divide(line, near)
		if !x.Fits {
			return
		}
		for _, f := range x.Fields {
			if f.Name == "program" && !slices.ContainsFunc(programs, func(p string) bool {
				return f.Value == p || strings.HasPrefix(f.Value, p+"/")
			}) {
				return
			}
		}
		out.Fits++
	})
	return out, nil
}

// programsOf are the names under which the programs of a kit may speak.
func programsOf(k *lang.Kit) []string {
	var out []string
	for _, n := range k.Needs {
		for _, w := range n {
			if w.Kind == "program" {
				out = append(out, w.Name)
			}
		}
	}
	return append(out, k.Name)
}
