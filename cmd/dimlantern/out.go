package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/folder"
	"dimlantern/service"
)

func deliveriesCommand() *cobra.Command {
	o := &places{}
	var asJSON bool
	c := &cobra.Command{
		Use:   "deliveries",
		Short: "What is handed on to other systems, and how that goes",
		Long: `Deliveries asks the running service for all deliveries: how many entries were handed over, how
much waits and since when, and what keeps one from going on, with what would mend it. It exits with 1
where one does not go on.`,
		Example: "  dimlantern deliveries\n  dimlantern deliveries --json",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			out := cmd.OutOrStdout()
			trouble := 0
			err := asked(o, func(ctx context.Context, s api.Lantern) error {
				v, err := api.AskDeliveries.Call(ctx, s, api.None{})
				if err != nil {
					return err
				}
				if len(v.List) == 0 && !asJSON {
					fmt.Fprintln(out, "the settings have no delivery: write deliver NAME { to … }")
				}
				for i := range v.List {
					d := &v.List[i]
					if d.Trouble {
						trouble++
					}
					if asJSON {
						printJSON(out, deliveryJSON(d))
					} else {
						printDelivery(out, d)
					}
				}
				return nil
			})
			if err == nil && trouble > 0 {
				return failed{count(trouble, "delivery does", "deliveries do") + " not go on"}
			}
			return err
		},
	}
	o.dataFlag(c)
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object a delivery")
	return c
}

// deliveryJSON is a delivery as it is printed: times as text.
func deliveryJSON(d *api.Delivery) any {
	return struct {
		*api.Delivery
		Since string `json:"since,omitempty"`
		Taken string `json:"taken,omitempty"`
	}{d, momentOrNone(d.Since), momentOrNone(d.LastTaken)}
}

func momentOrNone(t entry.Instant) string {
	if t == 0 || t == entry.None {
		return ""
	}
	return t.String()
}

func printDelivery(out io.Writer, d *api.Delivery) {
	fmt.Fprintf(out, "%s to %s: %s\n", d.Name, shown(d.To), shown(d.Words))
	if d.Off {
		return
	}
	if d.Mend != "" {
		fmt.Fprintf(out, "  mend: %s\n", shown(d.Mend))
	}
	if d.Trouble {
		fmt.Fprintf(out, "  since %s\n", local(d.Since))
	}
	line := count(int(d.Sent), "entry", "entries") + " handed over"
	if d.LastTaken != 0 {
		line += ", the last at " + local(d.LastTaken)
	}
	fmt.Fprintln(out, "  "+line)
	if d.Waiting > 0 {
		fmt.Fprintf(out, "  %s waiting, the oldest for %s; %s\n", humanize.IBytes(uint64(d.Waiting)),
			entry.RoughSpan(d.Oldest), d.WhenFull)
	}
	if d.Lost > 0 {
		fmt.Fprintf(out, "  %s went before it could be delivered\n", humanize.IBytes(uint64(d.Lost)))
	}
	if d.Refused > 0 {
		fmt.Fprintf(out, "  %s refused for good\n", count(int(d.Refused), "entry was", "entries were"))
	}
}

func measuresCommand() *cobra.Command {
	o := &places{}
	var asJSON bool
	c := &cobra.Command{
		Use:   "measures",
		Short: "The numbers that are counted for other systems, and where they go",
		Long: `Measures asks the running service for the measures of the settings: what each counts, how many
groups and entries it has, and what was left out because its number is none or negative.`,
		Example: "  dimlantern measures\n  dimlantern measures --json",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			out := cmd.OutOrStdout()
			return asked(o, func(ctx context.Context, s api.Lantern) error {
				v, err := api.AskMeasures.Call(ctx, s, api.None{})
				if err != nil {
					return err
				}
				if asJSON {
					for _, m := range v.List {
						printJSON(out, m)
					}
					return nil
				}
				printMeasures(out, v)
				return nil
			})
		},
	}
	o.dataFlag(c)
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object a measure")
	return c
}

func printMeasures(out io.Writer, v *api.MeasureList) {
	var to []string
	if v.Listen != "" {
		to = append(to, "http://"+v.Listen+"/metrics answers")
	}
	if v.To != "" {
		to = append(to, "they are sent to "+v.To)
	}
	if len(to) == 0 {
		to = append(to, `nobody can ask for them: write settings { measures listen "127.0.0.1:7424" }`)
	}
	fmt.Fprintln(out, shown(strings.Join(to, "; ")))
	if v.Words != "" {
		fmt.Fprintln(out, shown(v.Words))
	}
	if v.Beyond > 0 {
		fmt.Fprintf(out, "%s found no group of their own, since there are %d\n",
			count(int(v.Beyond), "entry", "entries"), v.Most)
	}
	for _, m := range v.List {
		line := fmt.Sprintf("%s (%s %s): %s", m.Name, m.Kind, m.Out, m.Shown)
		if len(m.Per) > 0 {
			line += " per " + strings.Join(m.Per, ", ")
		}
		if m.Off {
			fmt.Fprintln(out, line+", off")
			continue
		}
		fmt.Fprintf(out, "%s: %s in %s", line, count(int(m.Entries), "entry", "entries"),
			count(m.Series, "group", "groups"))
		if m.NoNumber > 0 {
			fmt.Fprintf(out, ", %d without a number", m.NoNumber)
		}
		if m.Negative > 0 {
			fmt.Fprintf(out, ", %d negative", m.Negative)
		}
		fmt.Fprintln(out)
	}
}

func reportsCommand() *cobra.Command {
	o := &places{}
	var asJSON bool
	c := &cobra.Command{
		Use:     "reports",
		Short:   "The reports: what came of each last, when it is due, and who gets it",
		Example: "  dimlantern reports\n  dimlantern reports --json",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			out := cmd.OutOrStdout()
			return asked(o, func(ctx context.Context, s api.Lantern) error {
				v, err := api.AskReports.Call(ctx, s, api.None{})
				if err != nil {
					return err
				}
				if len(v.List) == 0 && !asJSON {
					fmt.Fprintln(out,
						"the settings have no report: write report NAME { ask QUESTION  every day at 07:00 }")
				}
				for i := range v.List {
					if asJSON {
						printJSON(out, reportJSON(&v.List[i]))
					} else {
						printReport(out, &v.List[i])
					}
				}
				return nil
			})
		},
	}
	o.dataFlag(c)
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object a report")
	return c
}

// reportJSON is a report as it is printed: times as text.
func reportJSON(r *api.ReportView) any {
	type result struct {
		api.ReportResult
		Due  string `json:"due"`
		Made string `json:"made"`
		From string `json:"from,omitempty"`
		To   string `json:"to,omitempty"`
	}
	results := []result{}
	for _, x := range r.Results {
		results = append(results, result{x, x.Due.String(), x.Made.String(), momentOrNone(x.From), momentOrNone(x.To)})
	}
	return struct {
		*api.ReportView
		Next    string   `json:"next,omitempty"`
		Results []result `json:"results"`
	}{r, momentOrNone(r.Next), results}
}

func printReport(out io.Writer, r *api.ReportView) {
	line := r.Name
	if r.Title != r.Name {
		line += ", " + r.Title
	}
	line += ": " + strings.Join(r.Asks, ", ") + " as " + strings.Join(r.Forms, ", ")
	fmt.Fprintln(out, shown(line))
	switch {
	case r.Off:
		fmt.Fprintln(out, "  off")
	case r.Every == "":
		fmt.Fprintln(out, "  made when somebody asks for it")
	default:
		fmt.Fprintf(out, "  every %s, next at %s\n", r.Every, local(r.Next))
	}
	to := append([]string(nil), r.Tell...)
	if r.Write != "" {
		to = append(to, r.Write)
	}
	if len(to) > 0 {
		fmt.Fprintf(out, "  to %s\n", shown(strings.Join(to, ", ")))
	}
	if len(r.Results) == 0 {
		fmt.Fprintln(out, "  nothing was made yet")
		return
	}
	fmt.Fprintln(out, "  last: "+shown(r.Results[0].Say()))
}

// reportOptions are what the command report is told.
type reportOptions struct {
	places
	now, tell        bool
	covers, form, to string
}

func reportCommand() *cobra.Command {
	o := &reportOptions{}
	c := &cobra.Command{
		Use:   "report NAME",
		Short: "Give the last result of a report, or make one now",
		Long: `Report gives the newest result of a report of the running service; --now makes one, which is kept
with the others and told nobody, unless --tell says so. --covers is the span instead of the report's own,
such as yesterday or "last week", and --as the form: pdf, html, csv or json. Where no service runs, --now
makes one of the settings and of the logs as they lie there.`,
		Example: `  dimlantern report monday-gates --as pdf --out gates.pdf
  dimlantern report monday-gates --now --covers yesterday --as html --out gates.html
  dimlantern report monday-gates --tell`,
		Args: exactlyOne("the name of a report"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return o.run(cmd.Context(), cmd.OutOrStdout(), args[0])
		},
	}
	o.flags(c)
	c.Flags().BoolVar(&o.now, "now", false, "make one now")
	c.Flags().BoolVar(&o.tell, "tell", false, "tell the report's contacts, once more")
	c.Flags().StringVar(&o.covers, "covers", "", "the span that one made now covers")
	c.Flags().StringVar(&o.form, "as", "", "the form: pdf, html, csv or json")
	c.Flags().StringVar(&o.to, "out", "", "the file that it is written into; standard output where it is absent")
	return c
}

func (o *reportOptions) run(ctx context.Context, out io.Writer, name string) error {
	if o.covers != "" {
		o.now = true
	}
	if err := o.clean(); err != nil {
		return err
	}
	limited, cancel := context.WithTimeout(ctx, 5*time.Minute)
	defer cancel()
	done, err := api.DoReport.Call(limited, service.Join(o.data), api.ReportQuery{Name: name, Now: o.now,
		Covers: o.covers, Form: o.form, Tell: o.tell})
	switch {
	case err == nil && o.tell && !o.now:
		fmt.Fprintln(out, shown(done.Result.Say()))
		return nil
	case err == nil:
		return o.give(out, done.Body, done.Form)
	case !errors.Is(err, api.NoAnswer) || limited.Err() != nil:
		return failed{err.Error()}
	case o.tell:
		return failed{"no service runs on " + o.data + ", which would tell it: dimlantern watch starts one"}
	}
	body, form, err := o.alone(ctx, name)
	if err != nil {
		return err
	}
	return o.give(out, body, form)
}

// give writes a result where it is wanted.
func (o *reportOptions) give(out io.Writer, body []byte, form string) error {
	if o.to != "" {
		if err := folder.Replace(o.to, string(body)); err != nil {
			return err
		}
		fmt.Fprintf(out, "%s: %s, %s\n", o.to, form, humanize.IBytes(uint64(len(body))))
		return nil
	}
	if form == "pdf" && isTerminal(out) {
		return errors.New("a PDF is not shown on a terminal: write --out FILE, or --as csv")
	}
	_, err := out.Write(body)
	return err
}

func isTerminal(out io.Writer) bool {
	f, ok := out.(*os.File)
	if !ok {
		return false
	}
	info, err := f.Stat()
	return err == nil && info.Mode()&os.ModeCharDevice != 0
}

func keepCommand() *cobra.Command {
	o := &places{}
	var asJSON bool
	c := &cobra.Command{
		Use:   "keep",
		Short: "What is kept, how long, what it takes on the disk, and what it will take in a month",
		Long: `Keep asks the running service what is kept of entries, alerts, history and results, how long by the
settings (keep alerts, keep history, keep results, keep at most, and keep of each source), what that takes on
the disk now, and what it will take in a month if what comes is like the last seven days.`,
		Example: "  dimlantern keep\n  dimlantern keep --json",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			out := cmd.OutOrStdout()
			return asked(o, func(ctx context.Context, s api.Lantern) error {
				v, err := api.AskKeep.Call(ctx, s, api.None{})
				if err != nil {
					return err
				}
				if asJSON {
					for _, k := range v.List {
						printJSON(out, struct {
							api.Kept
							Oldest string `json:"oldest,omitempty"`
						}{k, momentOrNone(k.Oldest)})
					}
					return nil
				}
				return printKept(out, v)
			})
		},
	}
	o.dataFlag(c)
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object a line")
	return c
}

func printKept(out io.Writer, v *api.KeepList) error {
	size := func(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }
	table := tabwriter.NewWriter(out, 2, 0, 2, ' ', 0)
	fmt.Fprintln(table, "WHAT\tNUMBER\tNOW\tIN A MONTH\tOLDEST\tKEPT FOR")
	for _, k := range v.List {
		oldest, number := "", ""
		if k.Entries > 0 {
			number = humanize.Comma(k.Entries)
			if k.Oldest != 0 {
				oldest = local(k.Oldest)
			}
		}
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s\t%s\n", shown(k.Name), number, size(k.Bytes), size(k.Month), oldest,
			shown(k.For))
	}
	fmt.Fprintf(table, "together\t\t%s\t%s\t\t\n", size(v.Bytes), size(v.Month))
	if err := table.Flush(); err != nil {
		return err
	}
	if v.Free > 0 {
		fmt.Fprintf(out, "%s of the database's file are free, and used again\n", size(v.Free))
	}
	return nil
}
