package lang

import (
	"fmt"
	"slices"
)

// kitFindings takes what is doubtful in a kit out of what is told to those who use it: they did not write it.
// What concerns them is told where they use it.
func (k *checker) kitFindings() {
	s := k.settings
	for _, list := range k.joined.files {
		for _, f := range list {
			if x := k.joined.kits[f.kit]; x != nil && x.Used {
				f.diags = slices.DeleteFunc(f.diags, func(d Diagnostic) bool { return d.Weight != Err })
			}
		}
	}
	for _, x := range s.Kits {
		if !x.Used || len(s.Tell) > 0 || len(k.names["contact"]) == 0 {
			continue
		}
		n := 0
		for _, r := range s.Rules {
			if s.KitOf(r.Pos) == x.Name && len(r.Tells) == 0 {
				n++
			}
		}
		if n > 0 {
			x.by.report(Finding, "tells-nobody", x.at, fmt.Sprintf("nobody is told of the %d rules of the kit %s", n,
				x.Name), fmt.Sprintf("write: settings { tell %s }, for all rules that name nobody",
				k.names["contact"][0]))
		}
	}
	k.overlaps()
}

// overlaps tells of files that two sources read, of which a kit brought one.
func (k *checker) overlaps() {
	s := k.settings
	for i, a := range s.Sources {
		for _, b := range s.Sources[i+1:] {
			kit := s.Kit(s.KitOf(b.Pos))
			other := a
			if kit == nil || !kit.Used {
				kit, other = s.Kit(s.KitOf(a.Pos)), b
			}
			if a.Off || b.Off || kit == nil || !kit.Used {
				continue
			}
			for _, g := range a.Files {
				if contains(b.Files, g) {
					mine := a
					if other == a {
						mine = b
					}
					kit.by.report(Finding, "read-twice", kit.at,
						fmt.Sprintf("%s is read by the source %s of the kit %s and by %s: entries come in both",
							g, mine.Name, kit.Name, other.Name),
						fmt.Sprintf("call yours %s, and it stands in the place of the kit's; or: use kit %s but "+
							"not %s",
							mine.Name, kit.Name, mine.Name))
					break
				}
			}
		}
	}
}

// Placed is a block of settings as it is at work.
type Placed struct {
	Kind, Name string
	Kit        string // that it comes from; "" where it stands in the settings themselves
	Pos        Pos
	Text       string // in its canonical form, with the kit's values in their places
}

// Together reads files that belong together as Check does, and answers with all blocks as they are at work,
// in the order of the files, and with those of kits that are not.
func Together(files []*File, env Env) ([]Placed, []Aside) {
	k := &checker{env: env, settings: &Settings{}}
	k.kits(files)
	var out []Placed
	for _, f := range files {
		for _, b := range f.blocks {
			out = append(out, Placed{Kind: b.kind.src, Name: b.name.src, Kit: f.kit, Pos: b.kind.pos,
				Text: (&File{blocks: []*block{b}}).Format()})
		}
	}
	return out, k.settings.Asides
}

// FitsNothing is the code of a kit that fits nothing of this machine.
const FitsNothing = "fits-nothing"

// Unfit is what is told, where the kit is used, of one that fits nothing of this machine, which lacks what is
// missing.
func (k *Kit) Unfit(missing string) Diagnostic {
	f := &File{Name: k.at.pos.File}
	if k.by != nil {
		f.lines = k.by.lines
	}
	f.report(Finding, FitsNothing, k.at, fmt.Sprintf("the kit %s fits nothing here: there is no %s", k.Name, missing),
		"take it out, or say with what it is used where it lies elsewhere: dimlantern kits show "+k.Name)
	return f.diags[0]
}
