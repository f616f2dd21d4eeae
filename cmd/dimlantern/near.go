package main

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"dimlantern/workbench"

	"github.com/spf13/cobra"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
)

// sampled are the flags of commands that try a rule on files.
type sampled struct {
	rules, name, as string
	asJSON          bool
}

func (o *sampled) flags(c *cobra.Command) {
	c.Flags().StringVar(&o.rules, "rules", "", "a settings file, or a folder of them")
	c.Flags().StringVar(&o.name, "rule", "", "the rule to try")
	c.Flags().StringVar(&o.as, "as", "", "the source that the files are read as")
	c.Flags().BoolVar(&o.asJSON, "json", false, "one JSON object a line")
	c.PreRunE = needFlags("rules", "rule")
}

// open loads the rule, and reads the files whole.
func (o *sampled) open(files []string) (*lang.Settings, *lang.Rule, []*trial.Said, error) {
	settings, err := loadRules(o.rules)
	if err != nil {
		return nil, nil, nil, err
	}
	r := settings.Rule(o.name)
	if r == nil {
		var names []string
		for _, x := range settings.Rules {
			names = append(names, x.Name)
		}
		return nil, nil, nil, fmt.Errorf("--rule %s: there is no such rule; there are: %s", o.name,
			strings.Join(names, ", "))
	}
	inputs, closers, err := openInputs(settings, o.as, files)
	defer func() {
		for _, c := range closers {
			c.Close()
		}
	}()
	if err != nil {
		return nil, nil, nil, err
	}
	var said []*trial.Said
	for _, in := range inputs {
		d := &trial.Said{Input: *in}
		d.Files = nil
		for _, f := range in.Files {
			b, err := io.ReadAll(f)
			if err != nil {
				return nil, nil, nil, fmt.Errorf("%s cannot be read: %w", in.Path, reason(err))
			}
			d.Data = append(d.Data, b...)
		}
		if d.Source == nil { // plain lines of no source
			if settings.Source("lines") == nil {
				settings.Sources = append(settings.Sources, &lang.Source{Name: "lines"})
			}
			d.Source = settings.Source("lines")
		}
		said = append(said, d)
	}
	return settings, r, said, nil
}

func nearCommand() *cobra.Command {
	o := &sampled{}
	c := &cobra.Command{
		Use:   "near --rules PATH --rule NAME FILE…",
		Short: "The kinds of lines that a rule nearly catches, and what differs",
		Long: `Near groups the lines of the FILEs by what stays the same when numbers and names
change, and prints those kinds that the rule's problem does not catch though most of it
fits, with the part that does not. The exit status is 0 whatever there is.`,
		Example: "  dimlantern near --rules pumps.lantern --rule pump-pressure-low pump-03.log",
		Args:    atLeast("a FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			out := cmd.OutOrStdout()
			settings, r, said, err := o.open(args)
			if err != nil {
				return err
			}
			kinds, err := trial.KindsOf(settings, said, time.Local, nil)
			if err != nil {
				return err
			}
			n := 0
			for _, k := range trial.SaysOf(settings, r, kinds, nil, time.Local, entry.Of(time.Now())) {
				if k.Is != trial.KindNear {
					continue
				}
				n++
				if o.asJSON {
					printJSON(out, struct {
						Source  string `json:"source"`
						Count   int    `json:"count"`
						Shape   string `json:"shape"`
						Differs string `json:"differs"`
						Example string `json:"example"`
					}{k.Source, k.Shape.Count, k.Text, k.Note, k.Example})
					continue
				}
				fmt.Fprintf(out, "%s: %s\n  does not fit: %s\n  such as: %s\n", countOf(k.Shape.Count, "line", "lines"),
					shown(k.Text), k.Note, shown(k.Example))
			}
			if n == 0 && !o.asJSON {
				fmt.Fprintln(os.Stderr, "nothing comes near")
			}
			return nil
		},
	}
	o.flags(c)
	return c
}

func proposeCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "propose recovery --rules PATH --rule NAME FILE…",
		Short: "What may say that the problem of a rule is over",
		Args:  noArgs,
		RunE:  func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	o := &sampled{}
	recovery := &cobra.Command{
		Use:   "recovery --rules PATH --rule NAME FILE…",
		Short: "The kinds of lines that tend to follow a problem, and after which it stops",
		Long: `Recovery looks in the FILEs for kinds of lines that come after the hits of a rule for
the same key, and seldom otherwise: after how many of how many cases, and how long after
the first hit. The exit status is 0 whatever there is.`,
		Example: "  dimlantern propose recovery --rules pumps.lantern --rule pump-pressure-low pump-03.log",
		Args:    atLeast("a FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			out := cmd.OutOrStdout()
			settings, r, said, err := o.open(args)
			if err != nil {
				return err
			}
			list, err := trial.ProposeRecovery(settings, r, said, trial.Options{Zone: time.Local})
			if err != nil {
				return err
			}
			for _, x := range list {
				if o.asJSON {
					printJSON(out, struct {
						Source  string  `json:"source"`
						Shape   string  `json:"shape"`
						Ended   int     `json:"ended"`
						Cases   int     `json:"cases"`
						Idle    int     `json:"idle"`
						Median  float64 `json:"median_s"`
						Example string  `json:"example"`
					}{x.Source, x.Text, x.Ended, x.Cases, x.Idle, x.Median.Seconds(), x.Example})
					continue
				}
				fmt.Fprintf(out, "%s: %s\n  such as: %s\n", workbench.ProposalWords(&x), shown(x.Text),
					shown(x.Example))
			}
			if len(list) == 0 && !o.asJSON {
				fmt.Fprintln(os.Stderr, "nothing follows the problem often enough to be proposed")
			}
			return nil
		},
	}
	o.flags(recovery)
	c.AddCommand(recovery)
	return c
}
