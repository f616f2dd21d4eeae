package main

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"text/tabwriter"
	"time"

	"dimlantern/api"

	"github.com/spf13/cobra"

	"dimlantern/core/entry"
	"dimlantern/service"
)

func rulesCommand() *cobra.Command {
	o := &places{}
	var asJSON, slow bool
	c := &cobra.Command{
		Use:   "rules",
		Short: "What the rules of the running service do, and what they cost",
		Long: `Rules asks the service of the data folder what each rule has: keys, open alerts, hits
and when the newest came, and the processor time that it took: its share of one core
since the service began, and of a minute the 95th percentile and the most; and how many
entries were tried against it in the last minute. Time is
measured on a sample, and does not hold the time of reading, which rules share. --slow shows
the entries of the last day that took longest: of each rule, and of each layout.`,
		Example: "  dimlantern rules --data ./state --json\n  dimlantern rules --slow",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			out := cmd.OutOrStdout()
			if err := o.clean(); err != nil {
				return err
			}
			ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
			defer cancel()
			v, err := api.AskRules.Call(ctx, service.Join(o.data), api.None{})
			if err != nil {
				return failed{err.Error()}
			}
			if slow {
				return printSlow(out, v, asJSON)
			}
			if asJSON {
				for _, r := range v.Rules {
					printJSON(out, struct {
						api.RuleCost
						Last string `json:"last,omitempty"`
					}{r, instantOrNone(r.Last)})
				}
				return nil
			}
			ran := max(time.Since(time.Unix(0, int64(v.Since))), time.Millisecond)
			table := tabwriter.NewWriter(out, 2, 0, 2, ' ', 0)
			fmt.Fprintln(table, "RULE\tKEYS\tOPEN\tHITS\tNEWEST\tA MINUTE\tOF A CORE\tMINUTE P95\tMOST")
			for _, r := range v.Rules {
				newest := "never"
				switch {
				case r.Off:
					newest = "off"
				case r.Last != entry.None:
					newest = local(r.Last)
				}
				fmt.Fprintf(table, "%s\t%d\t%d\t%d\t%s\t%d\t%.3f %%\t%s\t%s\n", r.Rule, r.Keys, r.Open, r.Hits, newest,
					r.Minute, 100*float64(r.Took)/float64(ran),
					r.P95.Round(time.Microsecond), r.Most.Round(time.Microsecond))
			}
			table.Flush()
			fmt.Fprintln(out)
			table = tabwriter.NewWriter(out, 2, 0, 2, ' ', 0)
			fmt.Fprintln(table, "SOURCE\tREADING, OF A CORE\tMINUTE P95\tMOST\tLAYOUT\tDIVIDED\tA MINUTE\tOF A CORE")
			for _, x := range v.Sources {
				fmt.Fprintf(table, "%s\t%.3f %%\t%s\t%s\t%s\t%d\t%d\t%.3f %%\n", x.Source,
					100*float64(x.Took)/float64(ran), x.P95.Round(time.Microsecond), x.Most.Round(time.Microsecond),
					x.Layout, x.Entries, x.Minute, 100*float64(x.Dividing)/float64(ran))
			}
			return table.Flush()
		},
	}
	o.dataFlag(c)
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object a rule")
	c.Flags().BoolVar(&slow, "slow", false, "the entries that took longest, the slowest first")
	return c
}

// printSlow prints the entries that took longest, the slowest first.
func printSlow(out io.Writer, v *api.RulesView, asJSON bool) error {
	type line struct {
		Rule   string `json:"rule,omitempty"`
		Source string `json:"source,omitempty"`
		Layout string `json:"layout,omitempty"`
		At     string `json:"at"`
		*api.SlowEntry
	}
	var list []line
	for i := range v.Rules {
		if s := v.Rules[i].Slow; s != nil {
			list = append(list, line{Rule: v.Rules[i].Rule, At: s.At.String(), SlowEntry: s})
		}
	}
	for i := range v.Sources {
		if x := &v.Sources[i]; x.Slow != nil {
			list = append(list, line{Source: x.Source, Layout: x.Layout, At: x.Slow.At.String(), SlowEntry: x.Slow})
		}
	}
	slices.SortStableFunc(list, func(a, b line) int { return cmp.Compare(b.Took, a.Took) })
	if len(list) == 0 && !asJSON {
		fmt.Fprintln(out, "no entry was timed yet")
	}
	for _, x := range list {
		if asJSON {
			printJSON(out, x)
			continue
		}
		what := "rule " + x.Rule
		if x.Rule == "" {
			what = "layout " + x.Layout + " of " + x.Source
		}
		fmt.Fprintf(out, "%-10s %s: %s at %d, of %s\n           %s\n", x.Took.Round(time.Microsecond/10), what,
			shown(x.Origin), x.Place, local(x.SlowEntry.At), shown(x.Text))
	}
	return nil
}

func instantOrNone(t entry.Instant) string {
	if t == entry.None {
		return ""
	}
	return t.String()
}
