package main

import (
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
)

func whyCommand() *cobra.Command {
	var rules, name, as string
	var asJSON bool
	c := &cobra.Command{
		Use:   "why --rules PATH --rule NAME [--as SOURCE] LINE",
		Short: "Why a line is a hit, a recovery or nothing, clause by clause",
		Long: `Why divides one line by the layout of its source, and tries every clause of a
rule on it. The exit status is 0 whatever the line is.`,
		Example: `  dimlantern why --rules pumps.lantern --rule pump-pressure-low "pump 7: pressure low"`,
		Args:    exactlyOne("one LINE, in quotes"),
		RunE: func(_ *cobra.Command, args []string) error {
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
			w := trial.Why(settings, r, src, host, strings.TrimRight(args[0], "\r\n"), time.Local, entry.Of(time.Now()))
			if asJSON {
				printJSON(w)
				return nil
			}
			fmt.Print(shownLines(w.String()))
			return nil
		},
	}
	c.Flags().StringVar(&rules, "rules", "", "a settings file, or a folder of them")
	c.Flags().StringVar(&name, "rule", "", "the rule to ask")
	c.Flags().StringVar(&as, "as", "", "the source that the line is read as")
	c.Flags().BoolVar(&asJSON, "json", false, "as one JSON object")
	c.PreRunE = needFlags("rules", "rule")
	return c
}

func shownLines(s string) string {
	lines := strings.Split(s, "\n")
	for i := range lines {
		lines[i] = shown(lines[i])
	}
	return strings.Join(lines, "\n")
}
