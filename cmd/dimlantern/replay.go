package main

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"dimlantern/folder"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/intake"
	"dimlantern/service"
	"dimlantern/workbench"
)

type replayOptions struct {
	kit                 string
	rules, as, from, to string
	svg, pdf            string
	asJSON              bool
}

func replayCommand() *cobra.Command {
	o := &replayOptions{}
	c := &cobra.Command{
		Use:   "replay --rules PATH [--as SOURCE] FILE…",
		Short: "What rules would have done on files that are there already",
		Long: `Replay runs rules over log files and prints the transitions that would have
been. With --as each file is read as an origin of that source; without it, as
one of every source whose files fit its path, or of the only source there is. "-"
is standard input; .gz and .zst are read as they are.`,
		Example: `  dimlantern replay --rules pumps.lantern --as pump-logs pump-03.log.1 pump-03.log
  zcat old.gz | dimlantern replay --rules pumps.lantern --as pump-logs --svg old.svg -`,
		Args: atLeast("a FILE"),
		RunE: func(cmd *cobra.Command, args []string) error { return replay(cmd.OutOrStdout(), o, args) },
	}
	c.Flags().StringVar(&o.rules, "rules", "", "a settings file, or a folder of them")
	c.Flags().StringVar(&o.as, "as", "", "the source that the files are read as")
	c.Flags().StringVar(&o.from, "from", "", "begin with entries of this time: "+entry.Times)
	c.Flags().StringVar(&o.to, "to", "", "end before entries of this time")
	c.Flags().BoolVar(&o.asJSON, "json", false, "one transition a line")
	c.Flags().StringVar(&o.svg, "svg", "", "draw the lifelines into this SVG file")
	c.Flags().StringVar(&o.pdf, "pdf", "", "draw the lifelines into this PDF file")
	c.Flags().StringVar(&o.kit, "kit", "",
		"the rules of a kit; --rules then names the settings folder with its kits/")
	c.PreRunE = func(cmd *cobra.Command, _ []string) error {
		if !cmd.Flags().Changed("rules") && !cmd.Flags().Changed("kit") {
			return fmt.Errorf("replay needs --rules, or --kit: see dimlantern replay --help")
		}
		return nil
	}
	return c
}

// loadKit reads a kit as it is by itself.
func loadKit(settings, name string) (*lang.Settings, error) {
	s, _, ds, err := folder.LoadKit(settings, name)
	if err != nil {
		return nil, err
	}
	if err := refuse(ds); err != nil {
		return s, err
	}
	return s, withSecret(s)
}

// loadRules reads settings and refuses those with errors.
func loadRules(path string) (*lang.Settings, error) {
	texts, err := folder.Read(path)
	if err != nil {
		return nil, err
	}
	if len(texts) == 0 {
		return nil, fmt.Errorf("there is no *.lantern file in %s", path)
	}
	settings, ds := folder.CheckErrors(texts)
	if err := refuse(ds); err != nil {
		return settings, err
	}
	return settings, withSecret(settings)
}

// withSecret gives settings that mask something the key of the user's data folder, so
// that stand-ins are those that the service makes.
func withSecret(s *lang.Settings) error {
	if !slices.ContainsFunc(s.Layouts, func(l *lang.Layout) bool { return len(l.Masks) > 0 }) {
		return nil
	}
	var err error
	s.Secret, err = service.Secret(defaultFolder("STATE_DIRECTORY", "XDG_STATE_HOME", ".local/state", "/var/lib"))
	return err
}

// load reads the rules that are to be run. Where files lie elsewhere than those of a kit, they are read as the
// source of it that fits them best.
func (o *replayOptions) load(files []string) (*lang.Settings, error) {
	if o.kit == "" {
		return loadRules(o.rules)
	}
	s, err := loadKit(o.rules, o.kit)
	if err != nil || o.as != "" || files[0] == "-" {
		return s, err
	}
	if _, err := sourcesFor(s, "", absolute(files[0])); err != nil {
		fits, err := workbench.FitKits(o.rules, files[0], []string{o.kit})
		if err != nil {
			return nil, err
		}
		if len(fits) > 0 {
			o.as = fits[0].Source
		}
	}
	return s, nil
}

func replay(to io.Writer, o *replayOptions, files []string) error {
	settings, err := o.load(files)
	if err != nil {
		return err
	}
	opts := trial.Options{Zone: time.Local, Cores: runtime.GOMAXPROCS(0)}
	if opts.From, err = bound("--from", o.from); err != nil {
		return err
	}
	if opts.To, err = bound("--to", o.to); err != nil {
		return err
	}
	inputs, closers, err := openInputs(settings, o.as, files)
	defer func() {
		for _, c := range closers {
			c.Close()
		}
	}()
	if err != nil {
		return err
	}
	if o.asJSON {
		to = jsonOut(to)
	}
	out := bufio.NewWriterSize(to, 64<<10)
	table := &alertTable{}
	drawing := newDrawing(o)
	opts.Hit = drawing.hit()
	ends := ended{}
	opts.Emit = func(t *engine.Transition) {
		drawing.take(t)
		ends.take(t)
		if o.asJSON {
			b, _ := t.MarshalJSON()
			out.Write(b)
			out.WriteByte('\n')
			return
		}
		table.take(t)
	}
	opts.Progress = progress()
	debug.SetGCPercent(400) // most entries are forgotten as soon as they are judged
	sum, err := trial.Replay(settings, inputs, opts)
	if err != nil {
		return err
	}
	if !o.asJSON {
		table.write(out, sum)
	}
	if err := out.Flush(); err != nil {
		return fmt.Errorf("the result cannot be written: %w", err)
	}
	clearProgress()
	if err := drawing.write(sum); err != nil {
		return err
	}
	for _, p := range sum.Untimed {
		fmt.Fprintf(os.Stderr, "dimlantern: %s gives its entries no time; they stand at 1970-01-01T00:00:00Z. A "+
			"layout with a time clause would read it.\n", p)
	}
	for _, words := range ends.never(settings) {
		fmt.Fprintln(os.Stderr, "dimlantern: "+words)
	}
	fmt.Fprintf(os.Stderr, "entries %d, hits %d, raised %d, cleared %d, open %d\n", sum.Entries, sum.Hits, sum.Raised,
		sum.Cleared, sum.Open)
	return nil
}

// ended is, by rule, how many alerts were raised, and how many of them their recovery ended.
type ended map[string]*[2]int

func (e ended) take(t *engine.Transition) {
	n := e[t.Rule]
	if n == nil {
		n = &[2]int{}
		e[t.Rule] = n
	}
	switch {
	case t.Change == engine.Raised:
		n[0]++
	case t.Change == engine.Cleared && t.Why == "recovery":
		n[1]++
	}
}

// fewAlerts is up to how many alerts of a rule may well have had no time to recover.
const fewAlerts = 2

// never says of which rules a recovery ended none of several alerts: mostly it fits nothing that is written.
func (e ended) never(s *lang.Settings) (out []string) {
	for _, r := range s.Rules {
		if n := e[r.Name]; n != nil && r.Recovery != nil && n[0] > fewAlerts && n[1] == 0 {
			out = append(out, fmt.Sprintf("%s raised %d alerts, and its recovery ended none of them: ask whether any "+
				"entry fits it: where %s", r.Name, n[0], r.Recovery))
		}
	}
	return out
}

// shown makes control characters of a log visible.
func shown(s string) string { return entry.Visible(s) }

func bound(flag, s string) (entry.Instant, error) {
	if s == "" {
		return 0, nil
	}
	t, err := entry.ParseTime(s, time.Now(), false)
	if err != nil {
		return 0, fmt.Errorf("%s: %w", flag, err)
	}
	return entry.Of(t), nil
}

// reason takes the operation and the path out of an error.
func reason(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

// openInputs opens the files, those of one series as one origin, oldest first.
func openInputs(s *lang.Settings, as string, files []string) ([]*trial.Input, []io.Closer, error) {
	var inputs []*trial.Input
	var closers []io.Closer
	fallback, _ := os.Hostname()
	var paths []string
	given := map[string]string{} // as they were written
	for _, f := range files {
		abs := f
		if f != "-" {
			var err error
			if abs, err = filepath.Abs(f); err != nil {
				return nil, nil, err
			}
			if info, err := os.Stat(f); err != nil {
				return nil, nil, fmt.Errorf("%s cannot be read: %w", f, reason(err))
			} else if info.IsDir() {
				return nil, nil, fmt.Errorf("%s is a folder: name the files in it", f)
			}
		}
		paths, given[abs] = append(paths, abs), f
	}
	for _, g := range intake.Grouped(paths) {
		name := g.Name
		paths := append([]string{name}, g.Files...)
		sources, err := sourcesFor(s, as, paths...)
		if err != nil {
			return nil, closers, err
		}
		for _, src := range sources {
			in := &trial.Input{Source: src, Path: name, Host: fallback, Near: entry.None}
			if src != nil {
				in.Origin, in.Host = trial.OriginOf(src, name, fallback)
			}
			for i, f := range g.Files {
				r, near, err := intake.OpenLog(given[f])
				if err != nil {
					return nil, closers, fmt.Errorf("%s cannot be read: %w", given[f], err)
				}
				closers = append(closers, r)
				if i == 0 {
					in.Near = near
				}
				in.Files = append(in.Files, r)
			}
			inputs = append(inputs, in)
		}
	}
	return inputs, closers, nil
}

// sourcesFor finds the sources that a log is read as, by the name of its series and
// the paths of its members.
func sourcesFor(s *lang.Settings, as string, paths ...string) ([]*lang.Source, error) {
	if as != "" {
		if src := s.Source(as); src != nil {
			return []*lang.Source{src}, nil
		}
		var names []string
		for _, x := range s.Sources {
			names = append(names, x.Name)
		}
		if len(names) == 0 {
			return nil,
				fmt.Errorf("--as %s: the rules name no source at all; leave --as out, and the lines are plain", as)
		}
		return nil, fmt.Errorf("--as %s: there is no such source; there are: %s", as, strings.Join(names, ", "))
	}
	if len(s.Sources) == 0 {
		return []*lang.Source{nil}, nil
	}
	var out []*lang.Source
	for _, x := range s.Sources {
		if slices.ContainsFunc(paths, func(p string) bool { return intake.Fits(x, p) }) {
			out = append(out, x)
		}
	}
	switch {
	case len(out) > 0:
		return out, nil
	case len(s.Sources) == 1:
		return s.Sources[:1], nil
	}
	return nil, fmt.Errorf("%s fits the files of no source: say which one it is read as with --as",
		paths[len(paths)-1])
}

var progressShown bool

// progress returns a function that shows on a terminal how much has been read,
// from the first second on; nil where standard error is none.
func progress() func(int64) {
	if !term.IsTerminal(int(os.Stderr.Fd())) {
		return nil
	}
	start, last := time.Now(), time.Now()
	return func(n int64) {
		now := time.Now()
		if now.Sub(start) < time.Second || now.Sub(last) < 200*time.Millisecond {
			return
		}
		last = now
		progressShown = true
		fmt.Fprintf(os.Stderr, "\r%d MB read, %.0f MB/s ", n/1e6, float64(n)/1e6/now.Sub(start).Seconds())
	}
}

func clearProgress() {
	if progressShown {
		fmt.Fprint(os.Stderr, "\r\x1b[K")
	}
}

// historyLine writes a kept transition for people.
func historyLine(line string) string {
	var t struct {
		At, Change, Rule, Severity, Say, Why string
		Key                                  map[string]string
	}
	if err := json.Unmarshal([]byte(line), &t); err != nil {
		return shown(line)
	}
	at, err := time.Parse(time.RFC3339Nano, t.At)
	if err != nil {
		return shown(line)
	}
	return fmt.Sprintf("%s  %-9s %-8s %s: %s (%s)", at.Local().Format("2006-01-02 15:04:05"), t.Change, t.Severity,
		t.Rule, shown(t.Say), t.Why)
}
