package intake

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
	"dimlantern/core/trial"
)

// Reach is what a try of one origin showed.
type Reach struct {
	Source  string        `json:"source"`
	Origin  string        `json:"origin"`
	Files   int           `json:"files"`   // members of the series
	Size    int64         `json:"size"`    // of all of them, in bytes
	Reached bool          `json:"reached"` // it could be opened and read
	OK      bool          `json:"ok"`      // and nothing is wrong with what is in it
	Words   string        `json:"words"`
	Mend    string        `json:"mend,omitempty"` // a command to copy, or what to change
	First   entry.Instant `json:"-"`
	Newest  entry.Instant `json:"-"`
	Entries int           `json:"entries"`          // looked at
	Fits    int           `json:"fits"`             // of them
	Misfit  string        `json:"misfit,omitempty"` // an entry that does not fit
	Off     time.Duration `json:"-"`                // the clock of its writer against ours

	times layout.Times
}

// probeSize is how much of the head and of the tail of a file is looked at.
const probeSize = 128 << 10

// Probe tries a source for real: it finds its files, opens and reads them, and
// lets the layout have a look at their first and last lines. It keeps nothing.
func Probe(s *lang.Source, plan *match.Plan, host string, now time.Time) []Reach {
	series, folders := map[string]bool{}, map[string]*folder{}
	for _, g := range s.Files {
		if !strings.ContainsAny(g, "*?[{") {
			series[folderOf(filepath.Dir(g), nil).name(g)] = true
			continue
		}
		list, err := glob(g)
		if err != nil {
			continue
		}
		for _, p := range list {
			if Fits(s, p) {
				dir := filepath.Dir(p)
				if folders[dir] == nil {
					folders[dir] = folderOf(dir, nil)
				}
				series[folders[dir].name(p)] = true
			}
		}
	}
	if len(series) == 0 {
		return []Reach{{Source: s.Name, Words: "no file fits " + strings.Join(s.Files, ", "),
			Mend: Missing(s.Files[0])}}
	}
	var out []Reach
	for name := range series {
		out = append(out, probeSeries(s, plan, name, trial.HostOf(s, name, host), now))
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Origin < out[j].Origin })
	return out
}

// Missing says up to where the folders of a path are there.
func Missing(glob string) string {
	base, _ := doublestar.SplitPattern(glob)
	for dir := base; ; {
		if _, err := os.Stat(dir); err == nil {
			if dir == base {
				return fmt.Sprintf("the folder %s is there: look at what is in it, or wait until a file appears", dir)
			}
			return fmt.Sprintf("the folder %s is not there; %s is", base, dir)
		} else if errors.Is(err, fs.ErrPermission) {
			_, mend := denied(dir, err)
			return mend
		}
		i := strings.LastIndexByte(strings.TrimSuffix(dir, "/"), '/')
		if i <= 0 {
			return ""
		}
		dir = dir[:i]
	}
}

func probeSeries(s *lang.Source, plan *match.Plan, series, host string, now time.Time) Reach {
	r := Reach{Source: s.Name, Origin: host + ":" + series, First: entry.None, Newest: entry.None}
	files := members(series)
	r.Files = len(files)
	for _, f := range files {
		r.Size += f.size
	}
	if len(files) == 0 {
		info, err := os.Stat(series)
		switch {
		case err == nil:
			r.Words = fmt.Sprintf("%s is no file, but %s", series, kindOf(info.Mode()))
			r.Mend = fmt.Sprintf("files %s", lang.Quote(series+"/*.log"))
		case errors.Is(err, fs.ErrPermission):
			r.Words, r.Mend = denied(series, err)
		default:
			r.Words, r.Mend = "the file is not there yet", Missing(series)
		}
		return r
	}
	newest := files[len(files)-1]
	if newest.zip {
		r.OK, r.Reached, r.Words = true, true, "only compressed copies are there"
		return r
	}
	f, err := os.Open(newest.path)
	if err != nil {
		r.Words, r.Mend = denied(newest.path, err)
		return r
	}
	defer f.Close()
	r.OK, r.Reached = true, true
	r.look(plan, f, newest, now)
	r.say(plan, entry.Instant(newest.mod))
	return r
}

// look divides lines of the head and the tail of the newest member.
func (r *Reach) look(plan *match.Plan, f *os.File, m found, now time.Time) {
	head := make([]byte, min(probeSize, m.size))
	n, _ := f.ReadAt(head, 0)
	enc := plan.EncodingOf(head[:min(n, printSize)])
	d := &layout.Divider{Layout: plan.Layout}
	near := entry.Instant(m.mod)
	r.divide(plan, d, plan.Text(head[:n], enc), near)
	if m.size > probeSize {
		tail := make([]byte, probeSize)
		from := (m.size - probeSize) &^ 1
		n, err := f.ReadAt(tail, from)
		if err == nil || err == io.EOF {
			b := tail[:n]
			r.divide(plan, d, plan.Text(b[plan.LineEnd(b, enc):], enc), near)
		}
	}
	if r.Newest != entry.None {
		r.Off = r.Newest.Sub(entry.Instant(m.mod))
	}
}

func (r *Reach) divide(plan *match.Plan, d *layout.Divider, text []byte, near entry.Instant) {
	plan.Entries(text, func(line []byte) {
		if plan.Layout.Headed() && d.See(line) {
			return
		}
		x, shown := plan.Shown(d, line, near)
		r.Entries++
		r.times.Add(plan.Layout, &x)
		if x.Fits {
			r.Fits++
		} else if r.Misfit == "" {
			r.Misfit = entry.Visible(shown[:min(len(shown), 200)])
		}
		if x.Timed {
			if r.First == entry.None || x.At < r.First {
				r.First = x.At
			}
			r.Newest = entry.Later(r.Newest, x.At)
		}
	})
}

// say puts what was seen into words.
func (r *Reach) say(plan *match.Plan, written entry.Instant) {
	switch {
	case r.Entries == 0:
		r.Words = "it can be read, and has no entry yet"
	case !plan.Layout.Plain() && r.Fits == 0:
		r.OK, r.Words = false, "it can be read, and no entry fits the layout"
		r.Mend = "look at the layout's pattern; the first entry is: " + r.Misfit
	case !plan.Layout.Plain() && r.Fits*10 < r.Entries*9:
		r.OK, r.Words = false, fmt.Sprintf("it can be read, and %d of %d entries do not fit the layout",
			r.Entries-r.Fits, r.Entries)
		r.Mend = "such as: " + r.Misfit
	case r.times.Unread() != "":
		r.OK, r.Words = false, "it can be read, and "+r.times.Unread()
		r.Mend = "look at the layout's time clause"
	case r.times.Far(written) != "":
		r.OK, r.Words = false, "it can be read, and "+r.times.Far(written)+"; the file was written at "+written.String()
		r.Mend = "look at the time clause: at the order of day, month and year, and at the zone"
	case plan.Layout.Timed() && (r.Off > 5*time.Minute || r.Off < -5*time.Minute):
		r.Words = fmt.Sprintf("it can be read; its newest entry says %s, and the file was last written at %s: "+
			"does its clock agree, or its zone?",
			r.Newest, entry.Instant(int64(r.Newest)-int64(r.Off)))
	default:
		r.Words = "it can be read"
	}
}
