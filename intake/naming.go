package intake

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// named is how a path reads as a member of a series: the log that its file is a part of.
type named struct {
	series string // its path without what tells members apart
	// date is the date in its name, with what stands behind it, in digits: the earlier, the
	// older. "" is none.
	date string
	// number is the number that a rotation put into its name, and one more; 0 is none.
	number int
	// again tells that its name comes again: it has a weekday or a time of the day, and is
	// ordered by when it was written.
	again bool
	zip   bool
}

// old tells whether its name is that of a copy, or of a member that is dated.
func (n named) old() bool { return n.number > 0 || n.date != "" || n.again }

var (
	numbered = regexp.MustCompile(`^(.+?)(?:\.(\d{1,5}))?(\.gz|\.zst)?$`)
	dated    = regexp.MustCompile(`[-_.]?((?:19|20)\d\d-(?:0[1-9]|1[0-2])-(?:0[1-9]|[12]\d|3[01])|(?:19|` +
		`20)\d\d(?:0[1-9]|1[0-2])(?:0[1-9]|[12]\d|3[01]))([-_.]\d{10}|[-_T]?\d{2,6}|\.\d{4,` +
		`6})?(\.\d{6})?((?:[-_.]\d{1,5})?)`)
	inside  = regexp.MustCompile(`^(.+)\.(\d{1,5})(\.[A-Za-z][A-Za-z0-9]*)$`)
	weekday = regexp.MustCompile(`[-_.](?:Mon|Tue|Wed|Thu|Fri|Sat|Sun)((?:\.[A-Za-z][A-Za-z0-9]*)?)$`)
	sixes   = regexp.MustCompile(`(?:^|\D)(\d\d(?:0[1-9]|1[0-2])(?:0[1-9]|[12]\d|3[01]))(\d\d)?(?:\D|$)`)
	epoch   = regexp.MustCompile(`[-_.]([12]\d{9})(?:\D|$)`)
	clocked = regexp.MustCompile(`^(.*)[-_.]((?:[01]\d|2[0-3])[0-5]\d)((?:\.[A-Za-z][A-Za-z0-9]*)?)$`)
)

// read are names that were read, since the same ones are seen again and again.
var read struct {
	sync.Mutex
	names map[string]named
}

// mostRead is how many names are remembered.
const mostRead = 100_000

// readName reads a path by itself: numbers at its end, whole dates, weekdays.
func readName(path string) named {
	read.Lock()
	defer read.Unlock()
	n, ok := read.names[path]
	if !ok {
		n = parseName(path)
		if read.names == nil || len(read.names) >= mostRead {
			read.names = map[string]named{}
		}
		read.names[path] = n
	}
	return n
}

func parseName(path string) named {
	dir, name := filepath.Split(path)
	m := numbered.FindStringSubmatch(name)
	if m == nil {
		return named{series: path}
	}
	n := named{series: dir + m[1], zip: m[3] != ""}
	if m[2] != "" {
		n.number = number(m[2])
	}
	base := m[1]
	// Of several the last one: a name may begin with a year that is part of it.
	if all := dated.FindAllStringSubmatchIndex(base, -1); all != nil {
		x := all[len(all)-1]
		before, after := base[:x[0]], base[x[1]:]
		part := func(i int) string {
			if x[2*i] < 0 {
				return ""
			}
			return base[x[2*i]:x[2*i+1]]
		}
		if before+after != "" && (after == "" || !isDigit(after[0])) && (x[2] == 0 || !isDigit(base[x[2]-1])) {
			n.date = strings.ReplaceAll(part(1), "-", "")
			if rest := strings.TrimLeft(part(2), "-_.T") + strings.TrimLeft(part(3), "."); rest != "" ||
				part(4) != "" {
				n.date += fmt.Sprintf("%-12s%06d", strings.ReplaceAll(rest, " ", "0"),
					number(strings.TrimLeft(part(4), "-_.")))
			}
			n.series = dir + before + after
			return n
		}
	}
	if x := weekday.FindStringSubmatchIndex(base); x != nil && x[0] > 0 {
		n.series, n.again = dir+base[:x[0]]+base[x[2]:x[3]], true
	}
	return n
}

// number is a number in a name, and one more, since 0 is one.
func number(s string) int {
	if s == "" {
		return 0
	}
	n, _ := strconv.Atoi(s)
	return n + 1
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// folder is what a folder holds, by series. What a name means may depend on what stands
// beside it: app.1.log is a copy of app.log where there is one, else a log of its own.
type folder struct {
	series map[string][]string // the paths of its members
	of     map[string]named    // by path
}

// folderOf looks into a folder. Known tells of series that are there, though perhaps no
// file has their name just now; nil knows none.
func folderOf(dir string, known func(series string) bool) *folder {
	between()
	list, _ := os.ReadDir(dir)
	paths := make([]string, 0, len(list))
	for _, e := range list {
		if !e.IsDir() {
			paths = append(paths, filepath.Join(dir, e.Name()))
		}
	}
	return sorted(paths, known)
}

// sorted sorts paths into series.
func sorted(paths []string, known func(series string) bool) *folder {
	f := &folder{series: make(map[string][]string, len(paths)), of: make(map[string]named, len(paths))}
	for _, p := range paths {
		f.of[p] = readName(p)
	}
	there := func(series string) bool {
		if _, ok := f.of[series]; ok {
			return true
		}
		return known != nil && known(series)
	}
	var clocks []string
	for _, p := range paths {
		n := f.of[p]
		if n.date != "" || n.again {
			continue
		}
		dir, base := filepath.Split(n.series)
		if m := inside.FindStringSubmatch(base); m != nil && n.number == 0 && there(dir+m[1]+m[3]) {
			n.series, n.number = dir+m[1]+m[3], number(m[2])
		} else if date, rest, ok := shortDate(base, p); ok {
			n.series, n.date = dir+rest, date
		} else if date, rest, ok := epochs(base, p); ok {
			n.series, n.date = dir+rest, date
		} else if clocked.MatchString(base) {
			clocks = append(clocks, p)
		}
		f.of[p] = n
	}
	f.clocks(clocks, known)
	for _, p := range paths {
		n := f.of[p]
		f.series[n.series] = append(f.series[n.series], p)
	}
	return f
}

// shortDate takes a date of six digits out of a name, with an hour perhaps. Any six digits
// may look like one: it is taken for one where the file was written on that day or later,
// and not so long after that nobody would have written so short.
func shortDate(base, path string) (date, rest string, ok bool) {
	x := sixes.FindAllStringSubmatchIndex(base, -1)
	if x == nil {
		return "", "", false
	}
	m := x[len(x)-1]
	day, err := time.ParseInLocation("060102", base[m[2]:m[3]], time.Local)
	end := m[3]
	date = "20" + base[m[2]:m[3]]
	if m[4] >= 0 {
		end = m[5]
		date += fmt.Sprintf("%-12s%06d", base[m[4]:m[5]], 0)
	}
	rest = strings.TrimRight(base[:m[2]], "-_.") + base[end:]
	if err != nil || rest == "" || m[4] >= 0 && base[m[4]:m[5]] > "23" {
		return "", "", false
	}
	info, err := os.Stat(path)
	if err != nil || info.ModTime().Before(day.AddDate(0, 0, -1)) || info.ModTime().After(day.AddDate(10, 0, 0)) {
		return "", "", false
	}
	return date, rest, true
}

// epochs takes a number of seconds since 1970 out of a name, where the file was written
// within a year of that instant.
func epochs(base, path string) (date, rest string, ok bool) {
	m := epoch.FindStringSubmatchIndex(base)
	if m == nil || base[:m[0]]+base[m[3]:] == "" {
		return "", "", false
	}
	n, _ := strconv.ParseInt(base[m[2]:m[3]], 10, 64)
	info, err := os.Stat(path)
	if at := time.Unix(n, 0); err != nil || info.ModTime().Sub(at).Abs() > 366*24*time.Hour {
		return "", "", false
	}
	return fmt.Sprintf("%s%-12s%06d", time.Unix(n, 0).UTC().Format("20060102"),
		time.Unix(n, 0).UTC().Format("150405"), 0), base[:m[0]] + base[m[3]:], true
}

// clocks takes times of the day for what they are where at least three names differ by
// them alone, in equal steps, or where their series is known.
func (f *folder) clocks(paths []string, known func(series string) bool) {
	type group struct {
		paths   []string
		minutes []int
	}
	gone := func(series string) bool { // it is known, and no file is called so
		_, there := f.of[series]
		return !there && known != nil && known(series)
	}
	groups := map[string]*group{}
	for _, p := range paths {
		dir, base := filepath.Split(f.of[p].series)
		m := clocked.FindStringSubmatch(base)
		series := dir + m[1] + m[3]
		g := groups[series]
		if g == nil {
			g = &group{}
			groups[series] = g
		}
		n, _ := strconv.Atoi(m[2])
		g.paths, g.minutes = append(g.paths, p), append(g.minutes, n/100*60+n%100)
	}
	for series, g := range groups {
		step := 0
		for _, m := range g.minutes {
			step = gcd(step, m)
		}
		all := slices.Compact(slices.Sorted(slices.Values(g.minutes)))
		if (len(all) < 3 || step < 5 || step > 60) && !gone(series) {
			continue
		}
		for _, p := range g.paths {
			n := f.of[p]
			n.series, n.again = series, true
			f.of[p] = n
		}
	}
}

func gcd(a, b int) int {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}

// name is the series of a path.
func (f *folder) name(path string) string {
	if n, ok := f.of[path]; ok {
		return n.series
	}
	return readName(path).series
}

// members looks at the files of a series, and puts the oldest first.
func (f *folder) members(series string) []found {
	var files []found
	for _, path := range f.series[series] {
		between()
		info, err := os.Stat(path)
		if err != nil || !info.Mode().IsRegular() {
			continue
		}
		x := statOf(path, info)
		x.named = f.of[path]
		files = append(files, x)
	}
	up := upwards(files)
	slices.SortStableFunc(files, func(a, b found) int {
		switch {
		case a.again && b.again:
			return cmp.Compare(a.mod, b.mod)
		case a.date != b.date:
			if a.date == "" || b.date == "" {
				return cmp.Compare(b.date, a.date) // the one without a date is the newest
			}
			return cmp.Compare(a.date, b.date)
		case a.number != b.number:
			if up && a.number > 0 && b.number > 0 {
				return cmp.Compare(a.number, b.number)
			}
			return cmp.Compare(b.number, a.number)
		}
		return cmp.Compare(a.mod, b.mod)
	})
	// Where each member is dated, or named by the time, the last one is the newest.
	if n := len(files); n > 0 && files[n-1].number == 0 && !files[n-1].zip {
		files[n-1].date, files[n-1].again = "", false
	}
	return files
}

// upwards tells whether copies are numbered so that the greater number is the newer, as
// their times of change show: of two copies the one that was written first is the older.
func upwards(files []found) bool {
	balance := 0
	for i := range files {
		for k := range files[:i] {
			a, b := &files[i], &files[k]
			if a.number == 0 || b.number == 0 || a.date != b.date || a.number == b.number || a.mod == b.mod {
				continue
			}
			weight := 1
			if !a.zip && !b.zip { // who compresses does not always leave the time as it was
				weight = 1000
			}
			if (a.number > b.number) != (a.mod > b.mod) {
				weight = -weight
			}
			balance += weight
		}
	}
	return balance > 0
}

// members lists the files of a series, oldest first.
func members(series string) []found {
	return folderOf(filepath.Dir(series), func(s string) bool { return s == series }).members(series)
}

// Group is a series with its files, oldest first.
type Group struct {
	Name  string
	Files []string
}

// Grouped puts files together that belong to one log, in the order of the first of each.
// Their paths are from the root.
func Grouped(paths []string) []Group {
	folders := map[string]*folder{}
	at := map[string]int{}
	var out []Group
	for _, p := range paths {
		dir := filepath.Dir(p)
		f := folders[dir]
		if f == nil {
			f = folderOf(dir, nil)
			folders[dir] = f
		}
		n, ok := f.of[p]
		if !ok {
			n = readName(p)
		}
		i, ok := at[n.series]
		if !ok {
			i = len(out)
			at[n.series] = i
			out = append(out, Group{Name: n.series})
		}
		out[i].Files = append(out[i].Files, p)
	}
	for i := range out {
		rank := map[string]int{}
		for k, m := range folders[filepath.Dir(out[i].Name)].members(out[i].Name) {
			rank[m.path] = k
		}
		slices.SortStableFunc(out[i].Files, func(a, b string) int { return rank[a] - rank[b] })
	}
	return out
}

// IsCopy tells whether a path is that of a rotated or compressed copy, by its name alone.
func IsCopy(path string) bool {
	n := readName(path)
	return n.old() || n.zip
}

// SeriesOf is the log that a path belongs to, by its name alone.
func SeriesOf(path string) string { return readName(path).series }
