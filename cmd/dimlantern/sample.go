package main

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"dimlantern/folder"
	"dimlantern/intake"
	"dimlantern/workbench"

	"github.com/spf13/cobra"

	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
)

func detectCommand() *cobra.Command {
	var asJSON, all bool
	c := &cobra.Command{
		Use:   "detect FILE…",
		Short: "The layout that fits a log",
		Long: `Detect looks at the start and the end of logs, and proposes how their entries
divide into fields: the source and the layout as one writes them into a settings
file. Each proposal says how many of the entries it fits, how many of them have a time and in which
span; plain is an honest answer. Files in several formats get a source each.`,
		Example: "  dimlantern detect /var/log/gullhaven/pump-03.log > pumps.lantern\n  dimlantern detect --all " +
			"--json access.log",
		Args: atLeast("a FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			out := cmd.OutOrStdout()
			formats, err := workbench.FormatsOf(args)
			if err != nil {
				return err
			}
			if words := workbench.Formats(formats); words != "" && !asJSON {
				fmt.Fprintf(out, "# %s\n", words)
			}
			names := map[string]bool{}
			for i, f := range formats {
				name := workbench.SourceName(f.Files[0])
				for base, n := name, 2; names[name]; n++ {
					name = fmt.Sprintf("%s-%d", base, n)
				}
				names[name] = true
				if i > 0 && !asJSON {
					fmt.Fprintln(out)
				}
				props := f.Proposals
				if !all {
					props = props[:1]
				}
				for k := range props {
					p := &props[k]
					if asJSON {
						printJSON(out, proposalJSON(p, name, f.Files))
						continue
					}
					if k > 0 {
						fmt.Fprintln(out)
					}
					printProposal(out, p, name, f.Files)
				}
				if !all && !asJSON && len(f.Proposals) > 1 {
					fmt.Fprintln(os.Stderr, "also possible, see --all:")
					for _, p := range f.Proposals[1:] {
						fmt.Fprintln(os.Stderr, "  "+p.Describe())
					}
				}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object a proposal")
	c.Flags().BoolVar(&all, "all", false, "every proposal, the best first")
	return c
}

func printProposal(out io.Writer, p *layout.Proposal, name string, files []string) {
	fmt.Fprintln(out, "# "+p.Describe())
	for _, n := range p.Notes {
		fmt.Fprintln(out, "# "+n)
	}
	fmt.Fprint(out, workbench.Proposed(p, name, files))
}

func proposalJSON(p *layout.Proposal, name string, files []string) map[string]any {
	out := map[string]any{"what": p.What, "layout": layoutName(p, name), "text": workbench.Proposed(p, name, files),
		"fits": p.Fits, "timed": p.Timed, "of": p.Of, "notes": p.Notes, "files": files}
	if p.Timed > 0 {
		out["first"], out["last"] = p.First.String(), p.Last.String()
	}
	return out
}

func layoutName(p *layout.Proposal, name string) string {
	if p.Name != "" {
		return p.Name
	}
	return name
}

// shaperFor groups the entries of logs by their lines as they are, or, where those are no text
// but columns, JSON or XML, by what they say.
func shaperFor(files []string) (*match.Plan, *layout.EntryShaper, error) {
	settings, src := &lang.Settings{}, &lang.Source{Name: "log"}
	if !slices.Contains(files, "-") {
		formats, err := workbench.FormatsOf(files)
		if err != nil {
			return nil, nil, err
		}
		p := &formats[0].Proposals[0]
		if l, _ := p.Layout(); len(formats) == 1 && l != nil && len(l.Patterns) == 0 && l.Divides() {
			text := workbench.Proposed(p, "log", []string{absolute(files[0])})
			settings, _ = folder.Check([]folder.Text{{Name: "detected", Body: text}})
			src = settings.Sources[0]
		}
	}
	l := layout.Compile(settings.Layout(src.LayoutName()), time.Local, nil)
	return match.NewPlan(settings, src, nil, time.Local), layout.NewEntryShaper(l), nil
}

func shapesCommand() *cobra.Command {
	var asJSON bool
	var most int
	c := &cobra.Command{
		Use:   "shapes FILE…",
		Short: "The kinds of lines that a log has, with their counts",
		Long: `Shapes groups lines by what stays the same when numbers, names, identifiers,
addresses, quoted parts and times change, and prints each kind with how many lines
are of it and its newest one. Of columns, JSON and XML it takes what the entries say.`,
		Example: "  dimlantern shapes /var/log/gullhaven/pump-03.log\n  dimlantern shapes --json --most 20 " +
			"access.log.2.gz",
		Args: atLeast("a FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			out := cmd.OutOrStdout()
			plan, s, err := shaperFor(args)
			if err != nil {
				return err
			}
			for _, path := range args {
				if _, err := intake.EachBlock(path, plan, func(text []byte) error {
					plan.All(text, func(line []byte) { s.Add(line) })
					return nil
				}); err != nil {
					return err
				}
			}
			all := s.Shapes()
			for i, x := range all {
				if most > 0 && i >= most {
					break
				}
				last := x.Samples[len(x.Samples)-1]
				if asJSON {
					printJSON(out, map[string]any{"id": x.ID, "shape": x.Text, "count": x.Count,
						"share": float64(x.Count) / float64(s.Lines), "first": x.First + 1, "last": x.Last + 1,
						"example": last.Text})
					continue
				}
				fmt.Fprintf(out, "%8d  %5.1f %%  %s\n", x.Count, 100*float64(x.Count)/float64(s.Lines), shown(x.Text))
			}
			if !asJSON {
				fmt.Fprintf(out, "%s of %s\n", count(s.Lines, "line", "lines"), count(len(all), "shape", "shapes"))
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object a shape")
	c.Flags().IntVar(&most, "most", 0, "no more than so many, the largest first")
	return c
}

// absolute is a path from the root.
func absolute(path string) string {
	if path == "-" {
		return path
	}
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return path
}
