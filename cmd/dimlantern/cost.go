package main

import (
	"context"
	"fmt"
	"text/tabwriter"
	"time"

	"dimlantern/api"

	"github.com/spf13/cobra"

	"dimlantern/core/entry"
	"dimlantern/service"
)

func rulesCommand() *cobra.Command {
	o := &places{}
	var asJSON bool
	c := &cobra.Command{
		Use:   "rules",
		Short: "What the rules of the running service do, and what they cost",
		Long: `Rules asks the service of the data folder what each rule has: keys, open alerts, hits
and when the newest came, and the processor time that it took: its share of one core
since the service began, and of a minute the 95th percentile and the most. Time is
measured on a sample, and does not hold the time of reading, which rules share.`,
		Example: "  dimlantern rules --data ./state --json",
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
			fmt.Fprintln(table, "RULE\tKEYS\tOPEN\tHITS\tNEWEST\tOF A CORE\tMINUTE P95\tMOST")
			for _, r := range v.Rules {
				newest := "never"
				switch {
				case r.Off:
					newest = "off"
				case r.Last != entry.None:
					newest = local(r.Last)
				}
				fmt.Fprintf(table, "%s\t%d\t%d\t%d\t%s\t%.3f %%\t%s\t%s\n", r.Rule, r.Keys, r.Open, r.Hits, newest,
					100*float64(r.Took)/float64(ran), r.P95.Round(time.Microsecond), r.Most.Round(time.Microsecond))
			}
			table.Flush()
			fmt.Fprintln(out)
			table = tabwriter.NewWriter(out, 2, 0, 2, ' ', 0)
			fmt.Fprintln(table, "SOURCE\tREADING, OF A CORE")
			for _, x := range v.Sources {
				fmt.Fprintf(table, "%s\t%.3f %%\n", x.Source, 100*float64(x.Took)/float64(ran))
			}
			return table.Flush()
		},
	}
	o.dataFlag(c)
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object a rule")
	return c
}

func instantOrNone(t entry.Instant) string {
	if t == entry.None {
		return ""
	}
	return t.String()
}
