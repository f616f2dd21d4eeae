// Package found looks at a machine for what could be watched on it: programs that run, logs that grow, units
// that speak into the journal, channels, and what runs by the clock; and which kit fits each.
//
// It looks at names, sizes, times and rights alone, and reads no log. It follows no links, does not go into folders
// that hold no logs, and ends when its context does, with what it has found until then.
package found

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"dimlantern/core/lang"
	"dimlantern/intake"
	"dimlantern/intake/channel"
	"dimlantern/intake/journal"
)

// Machine is what was found.
type Machine struct {
	Programs []Program `json:"programs"` // that run, by their names
	Logs     []Log     `json:"logs"`     // the fastest first
	Journal  *Journal  `json:"journal,omitempty"`
	Channels []string  `json:"channels,omitempty"`
	Cron     []string  `json:"cron,omitempty"` // where jobs that run by the clock are written
	Fits     []Fit     `json:"kits"`           // the kits that fit, by their names
	// Cut tells that there was more than was looked at: of files, or of time.
	Cut  string        `json:"cut,omitempty"`
	Took time.Duration `json:"-"`

	globs map[string][]string // what stands at a pattern
	bin   map[string]bool
	root  string
	now   time.Time
}

// Program is a program that runs.
type Program struct {
	Name  string   `json:"name"`
	Count int      `json:"count"`          // of its processes
	Logs  []string `json:"logs,omitempty"` // files that it has open to write at their end
}

// Log is a series of files that something writes.
type Log struct {
	Path   string    `json:"path"`
	Size   int64     `json:"size"`  // of its newest file, in bytes
	Mod    time.Time `json:"mod"`   // when it was last written
	Daily  int64     `json:"daily"` // bytes a day, by its size and its age; 0 where that is not known
	Kit    string    `json:"kit,omitempty"`
	Source string    `json:"source,omitempty"` // of the settings, that reads it already
	Words  string    `json:"words,omitempty"`  // why it cannot be read
	Mend   string    `json:"mend,omitempty"`
}

// Journal is the system's journal.
type Journal struct {
	Newest time.Time `json:"newest"`
	Units  []string  `json:"units,omitempty"` // that have spoken
	Words  string    `json:"words,omitempty"` // why it cannot be read
	Mend   string    `json:"mend,omitempty"`
}

// Fit is a kit that fits.
type Fit struct {
	Kit   string   `json:"kit"`
	Note  string   `json:"note"`
	Why   string   `json:"why"`            // what of it is here
	Runs  bool     `json:"runs"`           // a program of it runs, or a log of it is there
	But   []string `json:"but,omitempty"`  // sources of it that are better left out here
	Used  bool     `json:"used,omitempty"` // the settings use it already
	Words string   `json:"words,omitempty"`
	Mend  string   `json:"mend,omitempty"`
}

// Clause is the clause that takes the kit into use.
func (f Fit) Clause() string {
	s := "use kit " + f.Kit
	if len(f.But) > 0 {
		s += " but not " + strings.Join(f.But, ", ")
	}
	return s
}

// Kit is a kit to be fitted, as it is by itself.
type Kit struct {
	*lang.Kit
	Settings *lang.Settings
}

// Options say where to look.
type Options struct {
	Root     string // of the file system; "" is /
	Channels string // where channels are; "" is this machine
	Kits     []Kit
	Settings *lang.Settings // those that are at work; nil for none
	// NoJournal leaves the journal alone.
	NoJournal bool
}

// Bounds of a look.
const (
	mostFiles   = 200_000 // that are looked at
	mostLogs    = 500     // that are told of
	recent      = 7 * 24 * time.Hour
	mostProcess = 100_000
	mostHandles = 2000 // of a process
)

// Look looks at the machine.
func Look(ctx context.Context, o Options) *Machine {
	began := time.Now()
	m := &Machine{root: o.Root, now: began, globs: map[string][]string{}}
	m.programs(ctx)
	m.logs(ctx, began)
	m.installed()
	if !o.NoJournal {
		m.journal(ctx)
	}
	if list, err := channel.List(ctx, o.Channels); err == nil {
		for _, x := range list {
			m.Channels = append(m.Channels, x.Name)
		}
		sort.Strings(m.Channels)
	}
	m.cron()
	for _, k := range o.Kits {
		m.fit(k, o.Settings)
	}
	m.owned(o)
	m.Took = time.Since(began)
	return m
}

// Programs are the names of the programs that run on this machine.
func Programs(ctx context.Context) []string {
	m := &Machine{now: time.Now()}
	m.programs(ctx)
	out := []string{}
	for _, p := range m.Programs {
		out = append(out, p.Name)
	}
	sort.Strings(out)
	return out
}

func (m *Machine) at(path string) string { return m.root + path }

// programs reads which processes there are, and which logs they write.
func (m *Machine) programs(ctx context.Context) {
	list, err := os.ReadDir(m.at("/proc"))
	if err != nil {
		return // a system that has none
	}
	by := map[string]*Program{}
	for i, d := range list {
		if ctx.Err() != nil || i > mostProcess {
			m.Cut = "there are more processes than could be looked at in this time"
			break
		}
		if _, err := strconv.Atoi(d.Name()); err != nil {
			continue
		}
		dir := m.at("/proc/" + d.Name())
		name := programOf(dir)
		if name == "" {
			continue
		}
		p := by[name]
		if p == nil {
			p = &Program{Name: name}
			by[name] = p
		}
		p.Count++
		for _, l := range written(dir) {
			if !slices.Contains(p.Logs, l) && len(p.Logs) < 50 {
				p.Logs = append(p.Logs, l)
			}
		}
	}
	for _, p := range by {
		sort.Strings(p.Logs)
		m.Programs = append(m.Programs, *p)
	}
	slices.SortFunc(m.Programs, func(a, b Program) int { return strings.Compare(a.Name, b.Name) })
}

// interpreters run programs that are named behind them.
var interpreters = []string{"python", "perl", "ruby", "node", "sh", "bash", "dash"}

// programOf is the name of a process's program; "" of one of the kernel's.
func programOf(dir string) string {
	line, err := os.ReadFile(dir + "/cmdline")
	if err != nil || len(line) == 0 {
		return ""
	}
	args := strings.Split(strings.TrimRight(string(line), "\x00"), "\x00")
	name := ""
	if exe, err := os.Readlink(dir + "/exe"); err == nil {
		name = filepath.Base(strings.TrimSuffix(exe, " (deleted)"))
		if strings.Contains(exe, "memfd:") { // it lies in memory alone
			name = filepath.Base(args[0])
		}
	} else { // of somebody else
		name, _, _ = strings.Cut(filepath.Base(args[0]), ":")
	}
	for _, i := range interpreters {
		if strings.TrimRight(name, "0123456789.") != i {
			continue
		}
		for _, a := range args[1:] {
			if !strings.HasPrefix(a, "-") {
				return filepath.Base(a)
			}
		}
	}
	return name
}

// written are the logs that a process has open to write at their end.
func written(dir string) []string {
	list, err := os.ReadDir(dir + "/fd")
	if err != nil {
		return nil // of somebody else
	}
	var out []string
	for _, d := range list[:min(len(list), mostHandles)] {
		path, err := os.Readlink(dir + "/fd/" + d.Name())
		if err != nil || !strings.HasPrefix(path, "/") || !logLike(path) {
			continue
		}
		info, err := os.ReadFile(dir + "/fdinfo/" + d.Name())
		if err != nil || !appends(info) {
			continue
		}
		out = append(out, path)
	}
	return out
}

// logLike tells whether a path may be that of a log that is written now.
func logLike(path string) bool {
	for _, p := range []string{"/proc/", "/dev/", "/sys/", "/tmp/", "/run/"} {
		if strings.HasPrefix(path, p) {
			return false
		}
	}
	base := filepath.Base(path)
	return strings.HasPrefix(path, "/var/log/") || strings.HasSuffix(base, ".log") ||
		strings.HasSuffix(base, ".json") &&
			strings.Contains(base, "log")
}

// appends tells whether a file is open to be written at its end.
func appends(info []byte) bool {
	_, rest, ok := bytes.Cut(info, []byte("flags:\t"))
	if !ok {
		return false
	}
	line, _, _ := bytes.Cut(rest, []byte("\n"))
	n, err := strconv.ParseInt(string(bytes.TrimSpace(line)), 8, 64)
	return err == nil && n&3 != 0 && n&0o2000 != 0
}

// binaries are what lies among logs and is none that people read.
var (
	binaries = []string{"wtmp", "btmp", "lastlog", "faillog", "tallylog"}
	packed   = []string{".xz", ".bz2", ".gz", ".zst", ".lz4", ".zip"}
)

// logs looks for the logs of the machine: below /var/log, those that programs have open elsewhere, and those
// of containers.
func (m *Machine) logs(ctx context.Context, now time.Time) {
	seen, n := map[string]bool{}, 0
	newest, turned := map[string]Log{}, map[string]time.Time{} // when each was begun, by its copies
	add := func(path string, info fs.FileInfo) {
		if info.Size() == 0 || now.Sub(info.ModTime()) > recent || !info.Mode().IsRegular() {
			return
		}
		x := Log{Path: path, Size: info.Size(), Mod: info.ModTime()}
		x.Daily = daily(m.at(path), info)
		newest[path] = x
	}
	walk := func(root string) {
		filepath.WalkDir(m.at(root), func(path string, d fs.DirEntry, err error) error {
			path = strings.TrimPrefix(path, m.root)
			if n++; n > mostFiles || ctx.Err() != nil {
				m.Cut = "there are more files in " + root + " than could be looked at"
				return fs.SkipAll
			}
			switch {
			case err != nil:
				if errors.Is(err, fs.ErrPermission) && d != nil && d.IsDir() && path != root {
					words, mend := intake.Denied(m.at(path), err)
					newest[path] = Log{Path: path + "/", Words: words, Mend: mend}
				}
				return nil
			case d.IsDir() && (path == "/var/log/journal" || strings.Count(path, "/") > 8):
				return fs.SkipDir
			case !d.Type().IsRegular() || slices.Contains(binaries, d.Name()) || seen[path] ||
				slices.Contains(packed, filepath.Ext(path)):
				return nil
			case intake.IsCopy(path):
				if info, err := d.Info(); err == nil {
					if at := intake.SeriesOf(path); info.ModTime().After(turned[at]) {
						turned[at] = info.ModTime()
					}
				}
				return nil
			}
			seen[path] = true
			if info, err := d.Info(); err == nil {
				add(path, info)
			}
			return nil
		})
	}
	walk("/var/log")
	if containers := "/var/lib/docker/containers"; m.there(containers) {
		walk(containers)
		for path := range newest {
			if strings.HasPrefix(path, containers) && !strings.HasSuffix(path, "-json.log") {
				delete(newest, path)
			}
		}
	}
	for _, p := range m.Programs {
		for _, l := range p.Logs {
			if seen[l] || intake.IsCopy(l) {
				continue
			}
			seen[l] = true
			if info, err := os.Lstat(m.at(l)); err == nil {
				add(l, info)
			}
		}
	}
	for _, x := range newest {
		if at, ok := turned[x.Path]; ok && x.Daily == 0 {
			x.Daily = perDay(x.Size, x.Mod.Sub(at))
		}
		m.Logs = append(m.Logs, x)
	}
	slices.SortFunc(m.Logs, func(a, b Log) int {
		return cmp.Or(cmp.Compare(b.Daily, a.Daily), cmp.Compare(b.Size, a.Size), strings.Compare(a.Path, b.Path))
	})
	m.Logs = m.Logs[:min(len(m.Logs), mostLogs)]
	for i := range m.Logs {
		if x := &m.Logs[i]; x.Words == "" {
			x.Words, x.Mend = intake.Unreadable(m.at(x.Path))
		}
	}
}

func (m *Machine) there(path string) bool {
	_, err := os.Stat(m.at(path))
	return err == nil
}

// daily is how many bytes a day a file grows by, as far as its age tells.
func daily(path string, info fs.FileInfo) int64 {
	born, ok := bornAt(path)
	if !ok {
		return 0
	}
	return perDay(info.Size(), info.ModTime().Sub(born))
}

// perDay is how many bytes a day come, of so many in some time; 0 where that is too short to tell.
func perDay(size int64, age time.Duration) int64 {
	if age < time.Minute {
		return 0
	}
	return int64(float64(size) / age.Hours() * 24)
}

// Folders in which programs lie.
var folders = []string{"/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/opt/bin"}

// installed reads which programs there are.
func (m *Machine) installed() {
	m.bin = map[string]bool{}
	for _, dir := range folders {
		list, _ := os.ReadDir(m.at(dir))
		for _, d := range list {
			m.bin[d.Name()] = true
		}
	}
	for _, path := range m.glob("/usr/lib/{postgresql/*/bin,dovecot,postfix/sbin,squid}/*") {
		m.bin[filepath.Base(path)] = true
	}
}

// glob are the paths that a pattern fits; those of links are not followed.
func (m *Machine) glob(pattern string) []string {
	if out, ok := m.globs[pattern]; ok {
		return out
	}
	list, _ := doublestar.FilepathGlob(m.at(pattern), doublestar.WithNoFollow())
	for i, p := range list {
		list[i] = strings.TrimPrefix(p, m.root)
	}
	m.globs[pattern] = list
	return list
}

func (m *Machine) journal(ctx context.Context) {
	if len(m.glob("/var/log/journal/*"))+len(m.glob("/run/log/journal/*")) == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	j := &Journal{}
	j.Newest, j.Words, j.Mend = journal.Look(ctx, "")
	if j.Words == "" && j.Newest.IsZero() {
		return // no entry: nobody writes it
	}
	if j.Words == "" {
		j.Units = journal.Units(ctx)
	}
	m.Journal = j
}

// cron finds where jobs are written that run by the clock.
func (m *Machine) cron() {
	for _, p := range []string{"/etc/crontab", "/etc/cron.d/*", "/var/spool/cron/crontabs/*", "/var/spool/cron/*"} {
		for _, f := range m.glob(p) {
			if info, err := os.Lstat(m.at(f)); err == nil && info.Mode().IsRegular() &&
				!strings.HasPrefix(filepath.Base(f), ".") {
				m.Cron = append(m.Cron, f)
			}
		}
	}
}

// owned says of each log which source reads it, and which kit would.
func (m *Machine) owned(o Options) {
	for i := range m.Logs {
		x := &m.Logs[i]
		if o.Settings != nil {
			for _, src := range o.Settings.Sources {
				if !src.Off && intake.Fits(src, x.Path) {
					x.Source = src.Name
				}
			}
		}
		for _, f := range m.Fits {
			for _, k := range o.Kits {
				if k.Name != f.Kit || x.Kit != "" {
					continue
				}
				for _, src := range k.Settings.Sources {
					if !slices.Contains(f.But, src.Name) && intake.Fits(src, x.Path) {
						x.Kit = k.Name
					}
				}
			}
		}
	}
}
