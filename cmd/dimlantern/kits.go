package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/folder"
	"dimlantern/intake/found"
	"dimlantern/workbench"
)

func kitsCommand() *cobra.Command {
	o := &places{}
	var asJSON bool
	c := &cobra.Command{
		Use:   "kits",
		Short: "What is found on this machine, and the kits that fit it",
		Long: `Kits are settings for programs and machines of one kind, ready to be used: sources,
rules with their tests, questions and a report. Without a word this looks at what runs
on this machine, which logs grow, and which kits fit; it reads no log for that. A folder
kits/ in the settings folder adds kits, and goes before those that come with Dim Lantern.`,
		Example: "  dimlantern kits\n  dimlantern kits show sign-ins\n  dimlantern kits use --found --write\n" +
			"  dimlantern kits try /var/log/app.log",
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, cancel := context.WithTimeout(cmd.Context(), lookTime)
			defer cancel()
			m, list, err := workbench.LookAround(ctx, o.settings, "")
			if err != nil {
				return err
			}
			if asJSON {
				printJSON(cmd.OutOrStdout(), struct {
					*found.Machine
					All []string `json:"all"`
				}{m, list})
				return nil
			}
			printFound(cmd.OutOrStdout(), m)
			printOthers(cmd.OutOrStdout(), o.settings, m, list)
			return nil
		},
	}
	c.Flags().StringVar(&o.settings, "settings", defaultFolder("CONFIGURATION_DIRECTORY", "XDG_CONFIG_HOME",
		".config", "/etc"), "the settings folder")
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object")
	c.AddCommand(kitsShow(), kitsTest(), kitsTry(), kitsUse(), kitsNew(), kitsChanges())
	return c
}

// lookTime bounds how long is looked at what there is on a machine.
const lookTime = 10 * time.Second

func kitSettingsFlag(c *cobra.Command, to *string) {
	c.Flags().StringVar(to, "settings", defaultFolder("CONFIGURATION_DIRECTORY", "XDG_CONFIG_HOME", ".config",
		"/etc"), "the settings folder")
}

// printFound says what was found.
func printFound(out io.Writer, m *found.Machine) {
	t := tabwriter.NewWriter(out, 2, 0, 2, ' ', 0)
	if len(m.Fits) > 0 {
		fmt.Fprintln(t, "KIT\tIT FITS BECAUSE\tTAKEN INTO USE BY")
	}
	for _, f := range m.Fits {
		use := f.Clause()
		if f.Used {
			use = "(in use)"
		}
		fmt.Fprintf(t, "%s\t%s\t%s\n", f.Kit, f.Why, use)
		if f.Words != "" {
			fmt.Fprintf(t, "\t%s\t\n", f.Words)
			if f.Mend != "" {
				fmt.Fprintf(t, "\tto mend it: %s\t\n", f.Mend)
			}
		}
	}
	t.Flush()
	if len(m.Logs) > 0 {
		fmt.Fprintln(t, "\nLOG\tSIZE\tA DAY\tWRITTEN\tREAD BY")
	}
	for i, l := range m.Logs {
		if i == mostShown {
			fmt.Fprintf(t, "and %d more (--json has them all)\t\t\t\t\n", len(m.Logs)-i)
			break
		}
		by := "nobody"
		switch {
		case l.Source != "":
			by = "source " + l.Source
		case l.Words != "":
			by = l.Words
		case l.Kit != "":
			by = "kit " + l.Kit + ", once it is used"
		}
		daily := "?"
		if l.Daily > 0 {
			daily = humanize.Bytes(uint64(l.Daily))
		}
		if l.Mod.IsZero() {
			fmt.Fprintf(t, "%s\t\t\t\t%s\n", shown(l.Path), by)
			continue
		}
		fmt.Fprintf(t, "%s\t%s\t%s\t%s ago\t%s\n", shown(l.Path), humanize.Bytes(uint64(l.Size)), daily,
			entry.RoughSpan(time.Since(l.Mod).Truncate(time.Second)), by)
	}
	t.Flush()
	fmt.Fprintln(out)
	if j := m.Journal; j != nil {
		words := fmt.Sprintf("the journal: %s have spoken", count(len(j.Units), "unit", "units"))
		if j.Words != "" {
			words = "the journal: " + j.Words
		}
		fmt.Fprintln(out, words)
		if j.Mend != "" {
			fmt.Fprintln(out, "  to mend it:", j.Mend)
		}
	}
	if len(m.Channels) > 0 {
		fmt.Fprintf(out, "channels: %s\n", strings.Join(m.Channels, ", "))
	}
	if len(m.Cron) > 0 {
		fmt.Fprintf(out, "jobs by the clock: %s\n", strings.Join(m.Cron, ", "))
	}
	var names []string
	for _, p := range m.Programs {
		names = append(names, p.Name)
	}
	fmt.Fprintf(out, "%s run: %s\n", count(len(names), "program", "programs"), shown(strings.Join(names, ", ")))
	if m.Cut != "" {
		fmt.Fprintln(out, "not everything was looked at:", m.Cut)
	}
	fmt.Fprintf(out, "looked for %s; no log was read\n", m.Took.Round(10*time.Millisecond))
}

// mostShown is how many logs are listed.
const mostShown = 40

func printOthers(out io.Writer, settings string, m *found.Machine, all []string) {
	t := tabwriter.NewWriter(out, 2, 0, 2, ' ', 0)
	first := true
	for _, name := range all {
		if slices.ContainsFunc(m.Fits, func(f found.Fit) bool { return f.Kit == name }) {
			continue
		}
		s, _, _, err := folder.LoadKit(settings, name)
		if err != nil || len(s.Kits) == 0 {
			continue
		}
		if first {
			fmt.Fprintln(t, "\nOTHER KIT\tFOR\tIT WANTS")
			first = false
		}
		fmt.Fprintf(t, "%s\t%s\t%s\n", name, s.Kits[0].Note, m.Missing(s.Kits[0]))
	}
	t.Flush()
}

func kitsShow() *cobra.Command {
	var settings string
	c := &cobra.Command{
		Use:     "show NAME",
		Short:   "The text of a kit",
		Example: "  dimlantern kits show sign-ins",
		Args:    exactlyOne("a NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			_, texts, _, err := folder.LoadKit(settings, args[0])
			if err != nil {
				return err
			}
			for i, t := range texts {
				if i > 0 {
					fmt.Fprintln(cmd.OutOrStdout())
				}
				if len(texts) > 1 {
					fmt.Fprintf(cmd.OutOrStdout(), "# %s\n", t.Name)
				}
				fmt.Fprint(cmd.OutOrStdout(), t.Body)
			}
			return nil
		},
	}
	kitSettingsFlag(c, &settings)
	return c
}

func kitsTest() *cobra.Command {
	var settings string
	var verbose bool
	c := &cobra.Command{
		Use:   "test [NAME…]",
		Short: "Plays the expects of kits, of all of them where none is named",
		RunE: func(cmd *cobra.Command, names []string) error {
			out := cmd.OutOrStdout()
			if len(names) == 0 {
				names = folder.Kits(settings)
			}
			passed, fails := 0, 0
			for _, name := range names {
				s, _, ds, err := folder.LoadKit(settings, name)
				if err != nil {
					return err
				}
				if err := refuse(ds); err != nil {
					return err
				}
				for _, o := range trial.Expects(s) {
					if o.Failed {
						fails++
						printFailed(out, &o)
						continue
					}
					if passed++; verbose {
						fmt.Fprintf(out, "pass %s %s: %s\n", name, o.Rule+o.Layout, o.Expect.Title)
					}
				}
			}
			fmt.Fprintf(out, "%d passed, %d failed\n", passed, fails)
			if fails > 0 {
				return failed{}
			}
			return nil
		},
	}
	kitSettingsFlag(c, &settings)
	c.Flags().BoolVarP(&verbose, "verbose", "v", false, "name those that pass as well")
	return c
}

func kitsTry() *cobra.Command {
	o := &replayOptions{}
	var settings string
	c := &cobra.Command{
		Use:   "try FILE…",
		Short: "Finds the kit that fits logs, and says what it would have done on them",
		Long: `Try lets every kit look at the beginning and the end of the first log. The one that
fits best is then run over all of them, as replay does.`,
		Example: "  dimlantern kits try /var/log/auth.log",
		Args:    atLeast("a FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			fits, err := workbench.FitKits(settings, args[0], folder.Kits(settings))
			if err != nil {
				return err
			}
			if len(fits) == 0 {
				return failed{
					fmt.Sprintf("no kit fits %s: dimlantern detect %s says how it is written", args[0], args[0]),
				}
			}
			out := cmd.OutOrStdout()
			to := out
			if o.asJSON {
				to = os.Stderr
			}
			for i, f := range fits {
				word := "also"
				if i == 0 {
					word = "fits"
				}
				fmt.Fprintf(to, "%s: kit %s, by its source %s: %d of %d entries that were looked at\n", word, f.Kit,
					f.Source, f.Fits, f.Entries)
			}
			o.kit, o.as, o.rules = fits[0].Kit, fits[0].Source, settings
			return replay(out, o, args)
		},
	}
	kitSettingsFlag(c, &settings)
	c.Flags().BoolVar(&o.asJSON, "json", false, "one transition a line")
	return c
}

func kitsUse() *cobra.Command {
	var settings string
	var all, write bool
	c := &cobra.Command{
		Use:   "use [NAME…]",
		Short: "Takes kits into use: shows what will be written, and writes it with --write",
		Long: `Use writes the clauses that take kits into use into kits.lantern in the settings
folder. Where a kit has a source for the journal and one for files in which the same
entries stand, the one that this machine has is left in. With --found it takes all
that fit. A service that runs takes it up at once.`,
		Example: "  dimlantern kits use --found\n  dimlantern kits use --found --write\n" +
			"  dimlantern kits use sign-ins --write",
		RunE: func(cmd *cobra.Command, names []string) error {
			if len(names) == 0 && !all {
				return fmt.Errorf("name a kit, or --found for all that fit: dimlantern kits lists them")
			}
			ctx, cancel := context.WithTimeout(cmd.Context(), lookTime)
			defer cancel()
			m, list, err := workbench.LookAround(ctx, settings, "")
			if err != nil {
				return err
			}
			for _, n := range names {
				if !slices.Contains(list, n) {
					return fmt.Errorf("there is no kit %q; there are: %s", n, strings.Join(list, ", "))
				}
			}
			file, text, err := workbench.KitsText(settings, m, names)
			if err != nil {
				return err
			}
			out := cmd.OutOrStdout()
			if text == "" {
				fmt.Fprintln(out, "all of them are in use already")
				return nil
			}
			if !write {
				fmt.Fprintf(out, "# %s will be:\n%s", file, text)
				fmt.Fprintln(os.Stderr, "nothing is written yet: --write does it")
				return nil
			}
			if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
				return err
			}
			if err := folder.Replace(file, text); err != nil {
				return err
			}
			fmt.Fprintln(out, file)
			return nil
		},
	}
	kitSettingsFlag(c, &settings)
	c.Flags().BoolVar(&all, "found", false, "all kits that fit what is found on this machine")
	c.Flags().BoolVar(&write, "write", false, "write the file")
	return c
}

func kitsNew() *cobra.Command {
	var settings string
	var from []string
	c := &cobra.Command{
		Use:   "new NAME --from FILE…",
		Short: "Makes a kit of settings, or of logs, that one has",
		Long: `New makes a kit of settings files: their sources, layouts, rules and questions, in
kits/NAME in the settings folder. The folder in which most of their logs lie becomes
its value logs. What is this machine's own (settings, contacts, whom rules tell) stays
out, and is named. Of a log it makes a source with the layout that fits it, to write
rules for. The files themselves stay as they are.`,
		Example: "  dimlantern kits new pumps --from /etc/dimlantern/pumps.lantern",
		Args:    atLeast("a NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			from = append(from, args[1:]...)
			if len(from) == 0 {
				return fmt.Errorf("kits new needs --from FILE: the settings of which it is made")
			}
			file, said, err := workbench.NewKit(settings, args[0], from)
			if err != nil {
				return err
			}
			for _, s := range said {
				fmt.Fprintln(os.Stderr, s)
			}
			fmt.Fprintln(cmd.OutOrStdout(), file)
			return nil
		},
	}
	kitSettingsFlag(c, &settings)
	c.Flags().StringArrayVar(&from, "from", nil, "a settings file or a log; again for more of them")
	return c
}

func effectiveCommand() *cobra.Command {
	var settings, host string
	var asJSON bool
	o := &places{}
	c := &cobra.Command{
		Use:   "effective",
		Short: "The settings that are at work: each block with where it comes from, and what it put aside",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if host != "" || cmd.Flags().Changed("data") {
				return asked(o, func(ctx context.Context, s api.Lantern) error {
					v, err := api.AskEffective.Call(ctx, s, api.EffectiveQuery{Host: host})
					if err == nil {
						printHostEffective(cmd.OutOrStdout(), v, asJSON)
					}
					return err
				})
			}
			texts, err := folder.Read(settings)
			if err != nil {
				return err
			}
			_, ds := folder.CheckErrors(texts)
			if err := refuse(ds); err != nil {
				return err
			}
			placed, aside := folder.Blocks(texts)
			printEffective(cmd.OutOrStdout(), placed, aside, asJSON)
			return nil
		},
	}
	kitSettingsFlag(c, &settings)
	o.dataFlag(c)
	c.Flags().StringVar(&host, "host", "", "of a host that has joined this centre")
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object a block")
	return c
}

// printEffective prints blocks with where they come from.
func printEffective(out io.Writer, placed []lang.Placed, aside []lang.Aside, asJSON bool) {
	type away struct {
		Kit string `json:"kit"`
		At  string `json:"at"`
		Why string `json:"why"`
	}
	if asJSON {
		for _, b := range placed {
			var put []away
			for _, a := range aside {
				if a.Kind == b.Kind && a.Name == b.Name {
					put = append(put, away{a.Kit, a.Pos.String(), a.Why})
				}
			}
			printJSON(out, struct {
				Kind  string `json:"kind"`
				Name  string `json:"name,omitempty"`
				From  string `json:"from"`
				Kit   string `json:"kit,omitempty"`
				Text  string `json:"text"`
				Aside []away `json:"put_aside,omitempty"`
			}{b.Kind, b.Name, fmt.Sprintf("%s:%d", b.Pos.File, b.Pos.Line), b.Kit, b.Text, put})
		}
		for _, a := range aside {
			if !slices.ContainsFunc(placed, func(b lang.Placed) bool {
				return a.Kind == b.Kind &&
					a.Name == b.Name
			}) {
				printJSON(out, struct {
					Kind string `json:"kind"`
					Name string `json:"name"`
					away
					Off bool `json:"left_out"`
				}{a.Kind, a.Name, away{a.Kit, a.Pos.String(), a.Why}, true})
			}
		}
		return
	}
	for _, b := range placed {
		fmt.Fprintf(out, "# %s:%d\n", b.Pos.File, b.Pos.Line)
		for _, a := range aside {
			if a.Kind == b.Kind && a.Name == b.Name {
				fmt.Fprintf(out, "# put aside: that of the kit %s, at %s: %s\n", a.Kit, a.Pos, a.Why)
			}
		}
		fmt.Fprintf(out, "%s\n", b.Text)
	}
	for _, a := range aside {
		if !slices.ContainsFunc(placed, func(b lang.Placed) bool { return a.Kind == b.Kind && a.Name == b.Name }) {
			fmt.Fprintf(out, "# left out: %s %s of the kit %s: %s\n", a.Kind, a.Name, a.Kit, a.Why)
		}
	}
}

// unfit are the kits in use that fit nothing of this machine.
func unfit(ctx context.Context, s *lang.Settings) []lang.Diagnostic {
	var out []lang.Diagnostic
	var m *found.Machine
	for _, k := range s.Kits {
		if !k.Used {
			continue
		}
		if m == nil {
			ctx, cancel := context.WithTimeout(ctx, lookTime)
			defer cancel()
			m = found.Look(ctx, found.Options{})
		}
		if missing := m.Missing(k); missing != "" {
			out = append(out, k.Unfit(missing))
		}
	}
	return out
}

func kitsChanges() *cobra.Command {
	o := &places{}
	c := &cobra.Command{
		Use:   "changes",
		Short: "What this version has changed in kits that are in use, and what that would do",
		Long: `A new version of Dim Lantern may have other rules in its kits. Those that are in use go
on as they were until dimlantern apply takes up the new ones; this shows what differs,
and what it would do to the alerts that are open.`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return asked(o, func(ctx context.Context, s api.Lantern) error {
				p, err := api.DoPut.Call(ctx, s, api.PutQuery{Newer: true})
				if err != nil {
					return err
				}
				for _, l := range p.Lines {
					fmt.Fprintf(cmd.OutOrStdout(), "%-10s %s\n", l.Word, shown(l.Text))
				}
				return nil
			})
		},
	}
	o.dataFlag(c)
	return c
}
