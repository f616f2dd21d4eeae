package main

import (
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
)

func whyCommand() *cobra.Command {
	var rules, name, as, at string
	var key []string
	var asJSON bool
	c := &cobra.Command{
		Use:   "why --rules PATH --rule NAME [--as SOURCE] LINE | --key FIELD=VALUE [--at T] FILE…",
		Short: "Why a line is a hit, a recovery or nothing; why a rule is where it is for a key",
		Long: `Why divides one line by the layout of its source, and tries every clause of a
rule on it. With --key or --at it reads FILEs instead, up to an instant, and says how
the rule stands then for that key: what each raise has and what it lacks, what would
end the alert, and which entries came. The exit status is 0 whatever the answer is.`,
		Example: `  dimlantern why --rules pumps.lantern --rule pump-pressure-low "pump 7: pressure low"
  dimlantern why --rules pumps.lantern --rule pump-pressure-low --key pump=7 --at 2026-11-24T05:33:00Z pump-03.log`,
		Args: func(_ *cobra.Command, args []string) error {
			if key != nil || at != "" {
				return atLeast("a FILE")(nil, args)
			}
			return exactlyOne("one LINE, in quotes")(nil, args)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			out := cmd.OutOrStdout()
			settings, err := loadRules(rules)
			if err != nil {
				return err
			}
			r := settings.Rule(name)
			if r == nil {
				var names []string
				for _, x := range settings.Rules {
					names = append(names, x.Name)
				}
				return fmt.Errorf("--rule %s: there is no such rule; there are: %s", name, strings.Join(names, ", "))
			}
			if key != nil || at != "" {
				return whyAt(out, settings, r, as, at, key, asJSON, args)
			}
			var src *lang.Source
			switch {
			case as != "":
				list, err := sourcesFor(settings, as)
				if err != nil {
					return err
				}
				src = list[0]
			case len(r.On) > 0:
				src = settings.Source(r.On[0])
			case len(settings.Sources) == 1:
				src = settings.Sources[0]
			}
			host, _ := os.Hostname()
			w := trial.Why(settings, r, src, host, "", strings.TrimRight(args[0], "\r\n"), time.Local,
				entry.Of(time.Now()))
			if asJSON {
				printJSON(out, w)
				return nil
			}
			fmt.Fprint(out, shownLines(w.String()))
			return nil
		},
	}
	c.Flags().StringVar(&rules, "rules", "", "a settings file, or a folder of them")
	c.Flags().StringVar(&name, "rule", "", "the rule to ask")
	c.Flags().StringVar(&as, "as", "", "the source that the line is read as")
	c.Flags().StringArrayVar(&key, "key", nil, "a field of the rule's key and its value: host=pump-03; once for "+
		"each field")
	c.Flags().StringVar(&at, "at", "", "the instant to ask about: "+entry.Times+"; without it the end of the FILEs")
	c.Flags().BoolVar(&asJSON, "json", false, "as one JSON object")
	c.PreRunE = needFlags("rules", "rule")
	return c
}

// whyAt says how a rule stood for a key.
func whyAt(out io.Writer, settings *lang.Settings, r *lang.Rule, as, at string, key []string, asJSON bool,
	files []string) error {
	q := trial.MomentQuery{Rule: r, At: entry.None, Key: make([]string, len(r.Per)),
		Clock: func(t entry.Instant) string { return t.Time().Local().Format("2006-01-02 15:04:05.000") }}
	if at != "" {
		var err error
		if q.At, err = bound("--at", at); err != nil {
			return err
		}
	}
	for _, k := range key {
		f, v, ok := strings.Cut(k, "=")
		if !ok && len(r.Per) == 1 {
			f, v = r.Per[0], k
		}
		i := slices.Index(r.Per, f)
		if i < 0 {
			if len(r.Per) == 0 {
				return fmt.Errorf("--key %s: the rule %s is not counted per anything; leave --key out, and say --at",
					k, r.Name)
			}
			return fmt.Errorf("--key %s: the rule %s is counted per %s; write --key %s=VALUE", k, r.Name,
				strings.Join(r.Per, ", "), r.Per[0])
		}
		q.Key[i] = v
	}
	inputs, closers, err := openInputs(settings, as, files)
	defer func() {
		for _, c := range closers {
			c.Close()
		}
	}()
	if err != nil {
		return err
	}
	m, err := trial.WhyAt(settings, q, inputs, trial.Options{Zone: time.Local, Progress: progress()})
	clearProgress()
	if err != nil {
		return err
	}
	if asJSON {
		printJSON(out, m)
		return nil
	}
	fmt.Fprint(out, shownLines(m.Text(q.Clock)))
	return nil
}

func shownLines(s string) string {
	lines := strings.Split(s, "\n")
	for i := range lines {
		cells := strings.Split(lines[i], "\t")
		for k := range cells {
			cells[k] = shown(cells[k])
		}
		lines[i] = strings.Join(cells, "\t")
	}
	return strings.Join(lines, "\n")
}
