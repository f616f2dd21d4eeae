package main

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"time"

	"dimlantern/api"

	"dimlantern/core/origin"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"dimlantern/core/entry"
	"dimlantern/intake"
	"dimlantern/service"
)

// printReach says what a try of the sources showed, and answers whether all of
// them can be read.
func printReach(out io.Writer, list []intake.Reach, asJSON bool) bool {
	well := true
	source := ""
	for _, r := range list {
		well = well && r.OK
		if asJSON {
			printJSON(out, struct {
				intake.Reach
				First  string `json:"first,omitempty"`
				Newest string `json:"newest,omitempty"`
				Off    string `json:"clock_off,omitempty"`
			}{r, r.First.String(), r.Newest.String(), offWords(r.Off)})
			continue
		}
		if r.Source != source {
			source = r.Source
			fmt.Fprintf(out, "\nsource %s\n", source)
		}
		if r.Origin != "" {
			fmt.Fprintf(out, "  %s\n", shown(r.Origin))
		}
		mark := "well"
		switch {
		case !r.Reached:
			mark = "not reached"
		case !r.OK:
			mark = "not well"
		}
		fmt.Fprintf(out, "    %s: %s\n", mark, r.Words)
		if r.Mend != "" {
			fmt.Fprintf(out, "    to mend it: %s\n", r.Mend)
		}
		if r.Files > 0 {
			fmt.Fprintf(out, "    %s, %s\n", count(r.Files, "file", "files"), humanize.Bytes(uint64(r.Size)))
		}
		if r.First == entry.None && r.Newest != entry.None {
			fmt.Fprintf(out, "    newest entry %s\n", local(r.Newest))
		} else if r.Newest != entry.None && r.Origin != "" {
			fmt.Fprintf(out, "    entries from %s to %s\n", local(r.First), local(r.Newest))
		}
		if r.Entries > 0 {
			fmt.Fprintf(out, "    the layout fits %d of %d entries of its head and tail\n", r.Fits, r.Entries)
		}
	}
	return well
}

func offWords(d time.Duration) string {
	if d > -time.Second && d < time.Second {
		return ""
	}
	return entry.RoughSpan(d)
}

func local(t entry.Instant) string {
	return time.Unix(0, int64(t)).Format("2006-01-02 15:04:05")
}

func beginsWords(s api.SourceView) string {
	if s.Way != nil && len(s.Way.State.Ways) == 0 {
		return ""
	}
	return ", begins " + s.Begin
}

// printSenders says who sends, and of whom something was lost.
func printSenders(out io.Writer, w *api.WayView) {
	if w == nil {
		return
	}
	for _, x := range w.State.Senders {
		words := fmt.Sprintf("  from %s: %d received", shown(x.Name), x.Received)
		if x.Dropped > 0 {
			words += fmt.Sprintf(", %d dropped for want of room", x.Dropped)
		}
		if x.Note != "" {
			words += "; " + x.Note
		}
		fmt.Fprintln(out, words)
	}
	for _, name := range slices.Sorted(maps.Keys(w.State.Ways)) {
		t := w.State.Ways[name]
		fmt.Fprintf(out, "  %s cannot be seen: %s\n", shown(name), shown(t.Words))
		if t.Mend != "" {
			fmt.Fprintf(out, "  to mend it: %s\n", t.Mend)
		}
	}
	if w.State.Lost > 0 {
		fmt.Fprintf(out, "  %d datagrams were dropped by the system before they could be read\n", w.State.Lost)
	}
	if w.Waiting > 0 {
		fmt.Fprintf(out, "  %d entries wait until they can be kept\n", w.Waiting)
	}
}

func sourcesCommand() *cobra.Command {
	o := &places{}
	var asJSON bool
	c := &cobra.Command{
		Use:   "sources",
		Short: "What the running service watches, and how each log can be seen",
		Long: `Sources asks the service of the data folder for its sources and their origins:
how many entries come, how far behind it is, and the state of each in words with
what would mend it. Without a service, dimlantern check --reach tries them.`,
		Example: "  dimlantern sources --data ./state --json",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			out := cmd.OutOrStdout()
			if err := o.clean(); err != nil {
				return err
			}
			ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
			defer cancel()
			v, err := api.AskSources.Call(ctx, service.Join(o.data), api.ViewQuery{Column: time.Minute, Columns: 60})
			if err != nil {
				return failed{err.Error() + "; dimlantern check --reach tries sources without one"}
			}
			for _, s := range v.Sources {
				if asJSON && s.Way != nil {
					printJSON(out, map[string]any{"source": s.Name, "where": s.Where, "way": s.Way, "words": s.Words,
						"mend": s.Mend})
				}
				if !asJSON {
					fmt.Fprintf(out, "%s  %s, layout %s%s\n", s.Name, s.Where, s.Layout, beginsWords(s))
					if s.Words != "" {
						fmt.Fprintf(out, "  %s\n", s.Words)
					}
					if s.Mend != "" {
						fmt.Fprintf(out, "  to mend it: %s\n", s.Mend)
					}
					printSenders(out, s.Way)
				}
				if asJSON && s.Way == nil && len(s.Origins) == 0 {
					printJSON(out, map[string]any{"source": s.Name, "where": s.Where,
						"state": map[string]string{"state": string(conditionOf(s)), "words": s.Words,
							"mend": s.Mend}})
				}
				for _, x := range s.Origins {
					if asJSON {
						printJSON(out, map[string]any{"source": s.Name, "origin": x.Name, "state": x.State,
							"entries": x.Entries, "a_minute": x.Minute,
							"newest": x.Newest.String(), "began": x.Began, "read": x.Read})
						continue
					}
					state := string(x.State.Condition)
					if x.State.Words != "" {
						state = x.State.Words
					}
					fmt.Fprintf(out, "  %-40s %7d a minute  %s\n", shown(x.Name), x.Minute, state)
					if x.State.Mend != "" {
						fmt.Fprintf(out, "  %-40s to mend it: %s\n", "", x.State.Mend)
					}
				}
			}
			return nil
		},
	}
	o.dataFlag(c)
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object an origin, and one a way in that is no file")
	return c
}

// conditionOf is how a source can be seen that has no origin.
func conditionOf(s api.SourceView) origin.Condition {
	if s.Off {
		return origin.Off
	}
	return origin.NoFile
}
