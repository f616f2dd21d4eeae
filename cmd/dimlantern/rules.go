package main

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"dimlantern/folder"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
	"dimlantern/core/trial"
	"dimlantern/intake"
	"dimlantern/intake/regular"
	"dimlantern/kits"
	"dimlantern/notify/via"
	"dimlantern/service"
)

// templateErrors are what is wrong in the templates of messages.
func templateErrors(folders []string) (out []lang.Diagnostic) {
	for _, dir := range folders {
		_, err := via.ReadWords(dir, nil)
		if err == nil {
			continue
		}
		d := lang.Diagnostic{Code: "bad-template", Weight: lang.Err, Pos: lang.Pos{File: dir, Line: 1, Col: 1},
			Len: 1, What: err.Error(),
			Mend: "docs/telling.md lists what templates see; without the file the one that comes with Dim Lantern " +
				"is used"}
		for _, name := range []string{via.SubjectFile, via.TextFile, via.HTMLFile} {
			path := filepath.Join(dir, name)
			_, rest, found := strings.Cut(err.Error(), path+":")
			if found {
				d.Pos.File = path
				fmt.Sscan(strings.SplitN(rest, ":", 2)[0], &d.Pos.Line)
				if b, err := regular.Read(path, 1<<20); err == nil {
					if lines := strings.Split(string(b), "\n"); d.Pos.Line >= 1 && d.Pos.Line <= len(lines) {
						d.Line = lines[d.Pos.Line-1]
					}
				}
			}
		}
		out = append(out, d)
	}
	return out
}

func checkCommand() *cobra.Command {
	var asJSON, reach, all bool
	var samples []string
	o := &places{}
	c := &cobra.Command{
		Use:   "check PATH…",
		Short: "Errors and findings in settings files",
		Long: `Check reads settings files, or folders of them, and tells every error and
finding: where it is, why, and what to write instead. The exit status is 0 where
there are none, else 1. With --reach it also tries every source for real: whether
its files are there and can be read, what their entries' times are, and whether
the layout fits. With --sample it also says which clauses fit no entry of a log, and
what nearly does; --reach takes the newest entries of each source as its sample.
Where a centre runs in the data folder, its hosts are asked how many entries a
second each rule at centre would have moved yesterday.`,
		Example: "  dimlantern check ./rules\n  dimlantern check --reach --json ./rules\n  dimlantern check " +
			"./rules --sample pump-03.log.1",
		Args: atLeast("a PATH"),
		RunE: func(cmd *cobra.Command, args []string) error {
			out := cmd.OutOrStdout()
			texts, unread := folder.Read(args...)
			if unread != nil && len(texts) == 0 {
				return unread
			}
			settings, ds := folder.Check(texts)
			var reached []intake.Reach
			if reach {
				reached = service.Probe(settings)
			}
			if !lang.Errors(ds) {
				more, err := neverFits(settings, texts, samples, reached)
				if err != nil {
					return err
				}
				ds = append(ds, more...)
				ds = append(ds, moved(cmd.Context(), texts, settings, o.data)...)
			}
			ds = append(ds, templateErrors(args)...)
			ds = append(ds, unfit(cmd.Context(), settings)...)
			files := len(texts)
			for _, t := range texts {
				if t.Table || kits.Inside(t.Name) {
					files--
				}
			}
			if asJSON {
				printDiagnosticsJSON(out, ds)
			} else {
				printDiagnostics(out, ds, all)
				sayZone(out, settings)
				errs, finds := 0, 0
				for _, d := range ds {
					switch d.Weight {
					case lang.Err:
						errs++
					case lang.Finding:
						finds++
					}
				}
				fmt.Fprintf(out, "%s: %s, %s\n", count(files, "file", "files"), count(errs, "error", "errors"),
					count(finds, "finding", "findings"))
			}
			if unread != nil { // the others were checked
				return unread
			}
			if len(texts) == 0 {
				return failed{"there is no *.lantern file there"}
			}
			if reach && !printReach(out, reached, asJSON) {
				return failed{}
			}
			if slices.ContainsFunc(ds, func(d lang.Diagnostic) bool { return d.Weight != lang.Note }) {
				return failed{}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object a line")
	c.Flags().BoolVar(&reach, "reach", false, "try every source for real")
	c.Flags().BoolVar(&all, "all", false, fmt.Sprintf("of each kind more than %d", mostOfKind))
	c.Flags().StringArrayVar(&samples, "sample", nil, "a log to try the clauses on; again for more of them")
	o.dataFlag(c)
	return c
}

// sampleSize is how much of the end of a log --reach takes as its sample, in bytes.
const sampleSize = 4 << 20

// neverFits are the clauses that fit no entry of a sample: of files that are named, and of
// the newest entries of logs that can be reached.
func neverFits(settings *lang.Settings, texts []folder.Text, samples []string,
	reached []intake.Reach) ([]lang.Diagnostic, error) {
	host, _ := os.Hostname()
	by := map[string]*trial.Sampler{}
	var order []string
	of := func(src *lang.Source) *trial.Sampler {
		if by[src.Name] == nil {
			by[src.Name] = trial.NewSampler(settings, src, time.Local, entry.Of(time.Now()))
			order = append(order, src.Name)
		}
		return by[src.Name]
	}
	for _, path := range samples {
		list, err := sourcesFor(settings, "", absolute(path))
		if err != nil {
			return nil, err
		}
		for _, src := range list {
			if src == nil {
				return nil, fmt.Errorf("--sample %s: the rules name no source that it could belong to", path)
			}
			plan := match.NewPlan(settings, src, nil, time.Local)
			if _, err := intake.EachBlock(path, plan, func(text []byte) error {
				plan.All(text, func(line []byte) { of(src).Add(host, string(line)) })
				return nil
			}); err != nil {
				return nil, err
			}
		}
	}
	for _, r := range reached {
		src := settings.Source(r.Source)
		origin, path, _ := strings.Cut(r.Origin, ":")
		if !r.OK || src == nil || src.Kept() {
			continue
		}
		plan := match.NewPlan(settings, src, nil, time.Local)
		text, err := intake.Tail(path, plan, entry.Of(time.Now().Add(24*time.Hour)), sampleSize)
		if err != nil {
			continue // what was reached has said why
		}
		plan.Entries(text, func(line []byte) { of(src).Add(origin, string(line)) })
	}
	var out []lang.Diagnostic
	for _, name := range order {
		for _, d := range by[name].Findings() {
			for _, t := range texts {
				if lines := strings.Split(t.Body, "\n"); t.Name == d.Pos.File && d.Pos.Line <= len(lines) {
					d.Line = lines[d.Pos.Line-1]
				}
			}
			out = append(out, d)
		}
	}
	return out, nil
}

// sayZone says in which zone times are read that do not name theirs.
func sayZone(out io.Writer, s *lang.Settings) {
	for _, l := range s.Layouts {
		if c := layout.Compile(l, time.Local, nil); c.Timed() && !c.Zoned() {
			fmt.Fprintf(out, "layout %s: its times name no zone, and are read in this machine's, %s\n", l.Name,
				zoneName())
		}
	}
}

func zoneName() string {
	if n := time.Local.String(); n != "Local" {
		return n
	}
	if p, err := filepath.EvalSymlinks("/etc/localtime"); err == nil {
		if rel, err := filepath.Rel("/usr/share/zoneinfo", p); err == nil && rel[0] != '.' {
			return rel
		}
	}
	name, offset := time.Now().Zone()
	return fmt.Sprintf("%s (UTC%+03d:%02d)", name, offset/3600, offset/60%60)
}

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// mostOfKind is how many findings of a kind are printed where not all are wanted.
const mostOfKind = 20

// printDiagnostics prints what is wrong, of each kind so many, and how many more there are.
func printDiagnostics(out io.Writer, ds []lang.Diagnostic, all bool) {
	n := map[string]int{}
	var order []string
	for _, d := range ds {
		if n[d.Code]++; all || n[d.Code] <= mostOfKind {
			fmt.Fprintln(out, d)
		}
		if n[d.Code] == 1 {
			order = append(order, d.Code)
		}
	}
	for _, code := range order {
		if more := n[code] - mostOfKind; more > 0 && !all {
			fmt.Fprintf(out, "%s: %s more; --all prints them\n", code, humanize.Comma(int64(more)))
		}
	}
}

func printDiagnosticsJSON(out io.Writer, ds []lang.Diagnostic) {
	e := json.NewEncoder(jsonOut(out))
	e.SetEscapeHTML(false)
	for _, d := range ds {
		e.Encode(struct {
			Code   string `json:"code"`
			Weight string `json:"weight"`
			lang.Pos
			Text string `json:"text"`
			What string `json:"what"`
			Mend string `json:"mend,omitempty"`
		}{d.Code, d.Weight.String(), d.Pos, d.Line, d.What, d.Mend})
	}
}

// refuse prints the errors among the diagnostics, and answers with an error
// where there are any.
func refuse(ds []lang.Diagnostic) error {
	if !lang.Errors(ds) {
		return nil
	}
	for _, d := range ds {
		if d.Weight == lang.Err {
			fmt.Fprintln(os.Stderr, d)
		}
	}
	return failed{"the settings have errors"}
}

func fmtCommand() *cobra.Command {
	var write, check bool
	c := &cobra.Command{
		Use:   "fmt PATH…",
		Short: "Settings files in their one canonical form",
		Long: `Fmt prints settings files in their canonical form, comments kept. With --write
it changes the files; with --check it names those that differ, and exits with 1.
A file with errors of syntax is left alone.`,
		Example: "  dimlantern fmt --write ./rules",
		Args:    atLeast("a PATH"),
		RunE: func(cmd *cobra.Command, args []string) error {
			out := cmd.OutOrStdout()
			texts, err := folder.Read(args...)
			if err != nil {
				return err
			}
			bad, differ := false, false
			for _, t := range texts {
				if t.Table || kits.Inside(t.Name) {
					continue
				}
				f := lang.Parse(t.Name, []byte(t.Body))
				if ds := f.Diagnostics(); lang.Errors(ds) {
					bad = true
					for _, d := range ds {
						fmt.Fprintln(os.Stderr, d)
					}
					continue
				}
				text := f.Format()
				switch {
				case check:
					if text != t.Body {
						differ = true
						fmt.Fprintln(out, t.Name)
					}
				case write:
					if text != t.Body {
						if err := folder.Replace(t.Name, text); err != nil {
							return err
						}
						fmt.Fprintln(out, t.Name)
					}
				default:
					fmt.Fprint(out, text)
				}
			}
			if bad {
				return failed{"files with errors were left alone"}
			}
			if differ {
				return failed{}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&write, "write", false, "change the files")
	c.Flags().BoolVar(&check, "check", false, "name the files that are not in that form")
	c.MarkFlagsMutuallyExclusive("write", "check")
	return c
}

func testCommand() *cobra.Command {
	var asJSON, verbose bool
	var run string
	c := &cobra.Command{
		Use:   "test PATH…",
		Short: "Runs every expect of the rules",
		Long: `Test plays the expects that stand beside the rules, and says of each that fails
at which step, and what happened instead. Its last line is "N passed, N failed".`,
		Example: "  dimlantern test ./rules\n  dimlantern test --run 'pump-.*: three' ./rules",
		Args:    atLeast("a PATH"),
		RunE: func(cmd *cobra.Command, args []string) error {
			out := cmd.OutOrStdout()
			texts, err := folder.Read(args...)
			if err != nil {
				return err
			}
			settings, ds := folder.Check(texts)
			if err := refuse(ds); err != nil {
				return err
			}
			passed, fails := 0, 0
			pattern, err := regexp.Compile(run)
			if err != nil {
				return fmt.Errorf("--run is no pattern: %w", err)
			}
			for _, o := range trial.Expects(settings) {
				if !pattern.MatchString(o.Rule + o.Layout + ": " + o.Expect.Title) {
					continue
				}
				if asJSON {
					x := map[string]any{"expect": o.Expect.Title, "passed": !o.Failed, "why": o.Why}
					if x["rule"] = o.Rule; o.Rule == "" {
						delete(x, "rule")
						x["layout"] = o.Layout
					}
					if o.Failed {
						x["at"], x["then"] = o.Step.Pos.String(), strings.TrimSpace(o.Step.Line)
						x["accounted"], x["instead"] = stepsTold(o.Accounted), happenedTold(o.Instead)
					}
					printJSON(out, x)
				}
				if !o.Failed {
					passed++
					if verbose && !asJSON {
						fmt.Fprintf(out, "pass %s: %s\n", o.Rule+o.Layout, o.Expect.Title)
					}
					continue
				}
				fails++
				if !asJSON {
					printFailed(out, &o)
				}
			}
			if asJSON {
				out = os.Stderr
			}
			fmt.Fprintf(out, "%d passed, %d failed\n", passed, fails)
			if fails > 0 {
				return failed{}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object an expect")
	c.Flags().BoolVarP(&verbose, "verbose", "v", false, "name those that pass as well")
	c.Flags().StringVar(&run, "run", "", "only expects whose \"RULE: TITLE\" fits this pattern")
	return c
}

// printFailed prints why an expect failed: which line, what came instead and by which
// step, and what had been accounted for by then.
func printFailed(out io.Writer, o *trial.Outcome) {
	fmt.Fprintf(out, "FAIL %s: %s\n    %s: %s\n", o.Rule+o.Layout, o.Expect.Title, o.Step.Pos,
		strings.TrimSpace(o.Step.Line))
	lead := "came instead"
	for _, s := range happenedTold(o.Instead) {
		fmt.Fprintf(out, "        %-14s %s\n", lead, s)
		lead = ""
	}
	if len(o.Instead) == 0 {
		fmt.Fprintf(out, "        %s\n", o.Why)
	} else if strings.HasPrefix(o.Why, "this happened as well") {
		fmt.Fprintf(out, "        %-14s every then line of this step has come true, and this happened as well: "+
			"%s\n", "",
			strings.TrimPrefix(o.Why, "this happened as well: "))
	}
	lead = "accounted for"
	for _, s := range stepsTold(o.Accounted) {
		fmt.Fprintf(out, "        %-14s %s\n", lead, s)
		lead = ""
	}
}

func stepsTold(steps []lang.Step) []string {
	out := []string{}
	for _, s := range steps {
		out = append(out, fmt.Sprintf("line %d: %s", s.Pos.Line, strings.TrimSpace(s.Line)))
	}
	return out
}

func happenedTold(list []trial.Happened) []string {
	out := []string{}
	for _, h := range list {
		out = append(out, fmt.Sprintf("%s   (line %d: %s)", h.Then, h.Step.Pos.Line, strings.TrimSpace(h.Step.Line)))
	}
	return out
}

func printJSON(out io.Writer, v any) {
	e := json.NewEncoder(jsonOut(out))
	e.SetEscapeHTML(false)
	e.Encode(v)
}
