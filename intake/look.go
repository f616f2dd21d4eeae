package intake

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"dimlantern/core/origin"

	"github.com/bmatcuk/doublestar/v4"

	"dimlantern/core/lang"
)

// look is one look at the folders of all sources.
type look struct {
	f       *Follower
	now     time.Time
	folders map[string]*folder
	series  map[string]bool // that are followed, whether they have a file just now or not
}

// folder is a folder as it was when this look first came to it.
func (l *look) folder(dir string) *folder {
	x := l.folders[dir]
	if x == nil {
		x = folderOf(dir, l.known)
		l.folders[dir] = x
		l.f.watch(dir)
	}
	return x
}

func (l *look) known(series string) bool { return l.series[series] }

// seriesOf is the series of a path.
func (l *look) seriesOf(path string) string {
	return l.folder(filepath.Dir(path)).name(path)
}

// seriesIn are the names of the series of a source, in their order.
func (l *look) seriesIn(s *lang.Source) []string {
	series := map[string]bool{}
	for _, g := range s.Files {
		base, _ := doublestar.SplitPattern(g)
		if !strings.ContainsAny(g, "*?[{") {
			if !Inside(s, g) {
				continue
			}
			series[l.seriesOf(g)] = true
			continue
		}
		l.folder(filepath.Clean(base))
		list, err := glob(g)
		if err != nil {
			continue
		}
		for _, p := range list {
			if !Fits(s, p) {
				continue
			}
			if name := l.seriesOf(p); s.Changed == 0 || l.f.recent(s, name, p, l.now) {
				series[name] = true
			}
		}
	}
	for _, o := range l.f.origins {
		if o.Source == s {
			series[o.Series] = true
		}
	}
	if l.f.known(s.Name) {
		l.rotatedUnseen(s, series)
	}
	names := make([]string, 0, len(series))
	for n := range series {
		names = append(names, n)
	}
	sort.Strings(names)
	return names
}

// justNow is how long ago a copy was last written to at most whose log nobody has seen.
const justNow = time.Minute

// rotatedUnseen adds series whose log came and was rotated between two looks, and has not
// been begun anew: no file has a name of the source then.
func (l *look) rotatedUnseen(s *lang.Source, series map[string]bool) {
	for _, x := range l.folders {
		for name, paths := range x.series {
			if series[name] || len(paths) == 0 || !Fits(s, name) || x.of[name].series == name ||
				inside.MatchString(filepath.Base(name)) {
				continue // that may be a copy itself
			}
			for _, p := range paths {
				if info, err := os.Stat(p); err == nil && info.Mode().IsRegular() &&
					l.now.Sub(info.ModTime()) < justNow {
					series[name] = true
				}
			}
		}
	}
}

// sighting is what a look saw of an origin.
type sighting struct {
	o     *Origin
	files []found
	s     survey
	first bool // its source says where to begin
}

func (l *look) source(s *lang.Source) {
	f := l.f
	names := l.seriesIn(s)
	delete(f.empty, s.Name)
	if len(names) == 0 {
		f.empty[s.Name] = fmt.Sprintf("no file fits %s yet", strings.Join(s.Files, ", "))
	}
	first := !f.known(s.Name)
	var seen []*sighting
	for _, name := range names {
		o, fresh := l.origin(s, name, first)
		seen = append(seen, &sighting{o: o, files: l.folder(filepath.Dir(name)).members(name), first: fresh})
	}
	all := make([]int, len(seen))
	for i, x := range seen {
		all[i] = len(x.files)
	}
	claim(seen)
	for _, x := range seen {
		l.packedElsewhere(x, seen)
	}
	var again []*sighting
	for i, x := range seen {
		o := x.o
		if all[i] > 0 && len(x.files) == 0 && o.blank() {
			delete(f.origins, s.Name+"\x00"+o.Series) // all that is called so belongs to others
			continue
		}
		if !l.readable(o, x.files) || o.peek() != nil {
			continue
		}
		o.unread = true
		var ok bool
		switch x.s, ok = o.survey(x.files); {
		case !ok:
			o.look(o.settled(), x.first, l.now)
		case x.s.fresh:
			again = append(again, x)
		default:
			o.takeUp(x.s, x.first, l.now)
		}
	}
	folders := map[string]*folder{}
	for _, x := range again { // their folders are listed again, once each
		dir := filepath.Dir(x.o.Series)
		if folders[dir] == nil {
			folders[dir] = folderOf(dir, l.known)
		}
		if files := x.o.own(folders[dir].members(x.o.Series)); sameFiles(x.s.files, files) {
			x.o.takeUp(x.s, x.first, l.now)
		} else {
			x.o.look(files, x.first, l.now)
		}
	}
}

// origin is the origin of a series, and whether its source says where it begins.
func (l *look) origin(s *lang.Source, name string, first bool) (*Origin, bool) {
	f := l.f
	key := s.Name + "\x00" + name
	o := f.origins[key]
	if o == nil {
		o = newOrigin(s, name, f.host, f.plans[s.Name])
		if p := f.places(s.Name, name); p != nil {
			if err := o.restore(p); err != nil {
				o.Words = err.Error()
			}
			first = false
		}
		f.origins[key] = o
	}
	return o, first && o.Condition == "" && len(o.place.Members) == 0
}

// readable tells whether what stands under the name of an origin can be read at all.
func (l *look) readable(o *Origin, files []found) bool {
	name := o.Series
	info, err := os.Stat(name)
	switch {
	case err == nil && !info.Mode().IsRegular():
		o.set(origin.Folder, fmt.Sprintf("%s is no file, but %s", name, kindOf(info.Mode())),
			fmt.Sprintf("name files in it: files %s", lang.Quote(name+"/*.log")), l.now)
		return false
	case len(files) == 0 && errors.Is(err, fs.ErrPermission):
		words, mend := denied(name, err)
		o.set(origin.Unreadable, words, mend, l.now)
		return false
	}
	return true
}

// claim gives each file to one origin. A file that one reads belongs to it whatever it is
// called by now: it was renamed. Of several names of another file the first counts.
func claim(seen []*sighting) {
	owners := map[Identity][]*sighting{} // several, where numbers were given out again
	for _, x := range seen {
		for _, m := range x.o.place.Members {
			if !m.Zip {
				owners[m.ID] = append(owners[m.ID], x)
			}
		}
		for _, d := range x.o.place.Finished {
			owners[d.ID] = append(owners[d.ID], x)
		}
	}
	delete(owners, Identity{})
	claimed := map[Identity]*sighting{}
	for _, x := range seen { // what still has a name of its own series
		for i := range x.files {
			if f := &x.files[i]; !f.zip && slices.Contains(owners[f.id], x) {
				claimed[f.id] = x
			}
		}
	}
	moved := map[*sighting][]found{}
	for _, x := range seen {
		for i := range x.files {
			f := &x.files[i]
			if f.zip || claimed[f.id] != nil {
				continue
			}
			claimed[f.id] = x
			for _, other := range owners[f.id] {
				if !other.o.reads(f) {
					continue
				}
				claimed[f.id] = other
				aged := *f
				aged.number = max(aged.number, 1)
				moved[other] = append(moved[other], aged)
				break
			}
		}
	}
	for _, x := range seen {
		x.o.foreign, x.o.moved = nil, moved[x]
		for _, f := range x.files {
			if c := claimed[f.id]; c != nil && c != x {
				if x.o.foreign == nil {
					x.o.foreign = map[Identity]bool{}
				}
				x.o.foreign[f.id] = true
			}
		}
		x.files = x.o.own(x.files)
	}
}

// printed are the first bytes of a compressed file, as it was when it was looked into.
type printed struct {
	mod   int64
	print []byte
}

// packedElsewhere leaves out of a log that is new the compressed copies of what another one
// reads, or has read: it was renamed before it was compressed. What the other reads still is
// that one's.
func (l *look) packedElsewhere(x *sighting, seen []*sighting) {
	if !x.o.blank() {
		return
	}
	x.files = slices.DeleteFunc(x.files, func(f found) bool {
		if !f.zip {
			return false
		}
		had, ok := l.f.printed[f.path]
		if !ok || had.mod != f.mod {
			print, ok := f.print()
			if !ok || len(print) == 0 {
				return true // it is on its way to another name, or being written
			}
			had = printed{f.mod, print}
			if l.f.printed == nil || len(l.f.printed) > mostRead {
				l.f.printed = map[string]printed{}
			}
			l.f.printed[f.path] = had
		}
		for _, other := range seen {
			if other == x || !other.o.knows(had.print) {
				continue
			}
			if slices.ContainsFunc(other.o.place.Members, func(m *member) bool { return alike(m.Print, had.print) }) {
				aged := f
				aged.number = max(aged.number, 1)
				other.files, other.o.moved = append([]found{aged}, other.files...), append(other.o.moved, aged)
			}
			return true
		}
		return false
	})
}

// blank tells whether nothing of the origin was ever read or passed over.
func (o *Origin) blank() bool {
	return len(o.place.Members) == 0 && len(o.place.Finished) == 0 && o.place.Entries == 0
}

// knows tells whether the origin reads a file that begins so, or has read one.
func (o *Origin) knows(print []byte) bool {
	return slices.ContainsFunc(o.place.Members, func(m *member) bool { return alike(m.Print, print) }) ||
		slices.ContainsFunc(o.place.Finished, func(d finished) bool { return alike(d.Print, print) })
}

// reads tells whether a file is one that the origin reads, or has read to its end.
func (o *Origin) reads(f *found) bool {
	for _, m := range o.place.Members {
		if m.ID == f.id && !m.Zip {
			if m.file != nil { // its number cannot have been given to another
				return true
			}
			print, ok := f.print()
			return ok && begins(print, m.Print) && len(m.Print) > 0
		}
	}
	d := o.finished(*f)
	if d == nil || len(d.Print) == 0 {
		return false
	}
	if d.mod == f.mod && d.Size == f.size {
		return true
	}
	print, ok := f.print()
	return ok && begins(print, d.Print)
}

// goneFor is how long after it was last written to a log that is not there any more is
// still known when Dim Lantern starts.
const goneFor = 7 * 24 * time.Hour

// restore takes up all origins of a source that were followed before and still fit it, so
// that one is missed that went meanwhile.
func (f *Follower) restore(s *lang.Source, now time.Time) {
	if f.restored[s.Name] || f.series == nil || !f.known(s.Name) {
		return
	}
	if f.restored == nil {
		f.restored = map[string]bool{}
	}
	f.restored[s.Name] = true
	for _, name := range f.series(s.Name) {
		key := s.Name + "\x00" + name
		p := f.places(s.Name, name)
		if f.origins[key] != nil || p == nil {
			continue
		}
		o := newOrigin(s, name, f.host, f.plans[s.Name])
		if o.restore(p) != nil {
			continue // it is told when its file is found
		}
		fits := Fits(s, name)
		for _, m := range o.place.Members {
			fits = fits || Fits(s, m.Path)
		}
		if n := sorted([]string{name}, nil).of[name]; !fits || n.series != name || o.place.Wrote > 0 &&
			now.UnixNano()-o.place.Wrote > int64(goneFor) {
			continue
		}
		o.set(origin.Seen, "", "", now)
		f.origins[key] = o
	}
}
