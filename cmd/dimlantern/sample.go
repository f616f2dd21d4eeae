package main

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"dimlantern/workbench"

	"github.com/spf13/cobra"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
)

// blockSize is how much of a log is read at once, in bytes.
const blockSize = 256 << 10

// eachBlock reads a log to its end, and hands on blocks of whole entries as UTF-8.
func eachBlock(path string, plan *match.Plan, do func(text []byte) error) (near entry.Instant, err error) {
	r, c, near, err := openLog(path)
	if err != nil {
		return near, err
	}
	defer c.Close()
	buf := make([]byte, blockSize)
	rest := 0
	var enc match.Encoding
	for first := true; ; first = false {
		n, err := io.ReadFull(r, buf[rest:])
		n += rest
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			return near, fmt.Errorf("%s cannot be read: %w", path, reason(err))
		}
		if first {
			enc = plan.EncodingOf(buf[:min(n, 256)])
		}
		ended := err != nil
		cut := n
		if !ended {
			if cut = plan.Cut(buf[:n], enc, false); cut == 0 {
				if len(buf) < 64<<20 { // a line longer than a block
					rest = n
					buf = append(buf, make([]byte, len(buf))...)
					continue
				}
				cut = n
			}
		}
		if cut > 0 {
			if err := do(plan.Text(buf[:cut], enc)); err != nil {
				return near, err
			}
		}
		if ended {
			return near, nil
		}
		rest = copy(buf, buf[cut:n])
	}
}

// enough is how much of a log is looked at to find its layout, in bytes, at its start
// and at its end.
const enough = 1 << 20

type full struct{}

func (full) Error() string { return "enough" }

// sampleOf are lines of the start and of the end of logs.
func sampleOf(paths []string) (lines []string, near entry.Instant, err error) {
	plan := match.NewPlan(&lang.Settings{}, nil, nil, time.Local)
	near = entry.Of(time.Now())
	for _, path := range paths {
		var head [][]byte
		var tail []byte
		size := 0
		at, err := eachBlock(path, plan, func(text []byte) error {
			if size < enough {
				head = append(head, bytes.Clone(text))
			} else if tail = append(tail, text...); len(tail) > 2*enough {
				tail = append(tail[:0], tail[len(tail)-enough:]...)
			}
			if size += len(text); size > 64*enough {
				return full{}
			}
			return nil
		})
		if _, ok := err.(full); err != nil && !ok {
			return nil, near, err
		}
		if at != entry.None {
			near = at
		}
		if len(tail) > 0 {
			if len(tail) > enough {
				tail = tail[len(tail)-enough:]
			}
			head = append(head, tail[bytes.IndexByte(tail, '\n')+1:])
		}
		for _, l := range bytes.Split(bytes.TrimSuffix(bytes.Join(head, nil), []byte("\n")), []byte("\n")) {
			lines = append(lines, strings.ToValidUTF8(strings.TrimSuffix(string(l), "\r"), "\uFFFD"))
		}
	}
	return lines, near, nil
}

func detectCommand() *cobra.Command {
	var asJSON, all bool
	c := &cobra.Command{
		Use:   "detect FILE…",
		Short: "The layout that fits a log",
		Long: `Detect looks at the start and the end of logs, and proposes how their entries
divide into fields: the source and the layout as one writes them into a settings
file. Each proposal says how many of the lines it fits; plain is an honest answer.`,
		Example: "  dimlantern detect /var/log/gullhaven/pump-03.log > pumps.lantern\n  dimlantern detect --all " +
			"--json access.log",
		Args: atLeast("a FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			out := cmd.OutOrStdout()
			lines, near, err := sampleOf(args)
			if err != nil {
				return err
			}
			props := layout.Detect(lines, near)
			name := workbench.SourceName(args[0])
			if asJSON {
				for i, p := range props {
					if i > 0 && !all {
						break
					}
					printJSON(out, map[string]any{"what": p.What, "layout": layoutName(&p, name),
						"text": workbench.Proposed(&p, name, args), "fits": p.Fits, "timed": p.Timed, "of": p.Of,
						"notes": p.Notes})
				}
				return nil
			}
			for i, p := range props {
				if i > 0 && !all {
					break
				}
				if i > 0 {
					fmt.Fprintln(out)
				}
				fmt.Fprintln(out, "# "+p.Describe())
				for _, n := range p.Notes {
					fmt.Fprintln(out, "# "+n)
				}
				fmt.Fprint(out, workbench.Proposed(&p, name, args))
			}
			if !all && len(props) > 1 {
				fmt.Fprintln(os.Stderr, "also possible, see --all:")
				for _, p := range props[1:] {
					fmt.Fprintln(os.Stderr, "  "+p.Describe())
				}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object a proposal")
	c.Flags().BoolVar(&all, "all", false, "every proposal, the best first")
	return c
}

func layoutName(p *layout.Proposal, name string) string {
	if p.Name != "" {
		return p.Name
	}
	return name
}

func shapesCommand() *cobra.Command {
	var asJSON bool
	var most int
	c := &cobra.Command{
		Use:   "shapes FILE…",
		Short: "The kinds of lines that a log has, with their counts",
		Long: `Shapes groups lines by what stays the same when numbers, names, identifiers,
addresses, quoted parts and times change, and prints each kind with how many lines
are of it and its newest one.`,
		Example: "  dimlantern shapes /var/log/gullhaven/pump-03.log\n  dimlantern shapes --json --most 20 " +
			"access.log.2.gz",
		Args: atLeast("a FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			out := cmd.OutOrStdout()
			plan := match.NewPlan(&lang.Settings{}, nil, nil, time.Local)
			s := layout.NewShaper()
			for _, path := range args {
				if _, err := eachBlock(path, plan, func(text []byte) error {
					for len(text) > 0 {
						line := text
						if i := bytes.IndexByte(text, '\n'); i >= 0 {
							line, text = text[:i], text[i+1:]
						} else {
							text = nil
						}
						s.Add(bytes.TrimSuffix(line, []byte{'\r'}))
					}
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
