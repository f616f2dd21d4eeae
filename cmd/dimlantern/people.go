package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dimlantern/notify"

	"dimlantern/api"

	"github.com/spf13/cobra"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/notify/via"
	"dimlantern/service"
)

// asked does something with the running service of a data folder.
func asked(o *places, do func(ctx context.Context, s api.Lantern) error) error {
	if err := o.clean(); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	switch err := do(ctx, service.Join(o.data)); {
	case errors.Is(err, api.NoAnswer) && ctx.Err() == nil:
		return failed{fmt.Sprintf("no service runs on %s: dimlantern watch starts one, and the screens do (%v)",
			o.data, err)}
	case err != nil:
		return failed{err.Error()}
	}
	return nil
}

func act(out io.Writer, o *places, q api.ActQuery) error {
	q.Person = person()
	return asked(o, func(ctx context.Context, s api.Lantern) error {
		done, err := api.DoAct.Call(ctx, s, q)
		if err != nil {
			return err
		}
		fmt.Fprintln(out, done.Words)
		if done.Hush != "" {
			fmt.Fprintf(out, "dimlantern hush --end %s ends it\n", done.Hush)
		}
		return nil
	})
}

func takeCommand() *cobra.Command {
	o := &places{}
	var words, to string
	var letGo bool
	c := &cobra.Command{
		Use:   "take ALERT",
		Short: "Says that an alert is yours now, or somebody else's",
		Long: `Take tells the running service, and all who look, that you have an alert now: nobody
is reminded of it, and what is for untaken ones does not happen. With --to it is handed
over to somebody else; with --undo nobody has it any more.`,
		Example: "  dimlantern take k3f9a0c2d1e8 --words \"on my way\"\n  dimlantern take k3f9a0c2d1e8 --to anna",
		Args:    exactlyOne("one ALERT"),
		RunE: func(cmd *cobra.Command, args []string) error {
			out := cmd.OutOrStdout()
			q := api.ActQuery{What: "take", Alert: args[0], Words: words}
			switch {
			case letGo && to != "":
				return errors.New("--undo and --to do not go together")
			case letGo:
				q.What = "let go"
			case to != "":
				q.What, q.To = "hand over", to
			}
			return act(out, o, q)
		},
	}
	o.dataFlag(c)
	c.Flags().StringVar(&words, "words", "", "a word to it")
	c.Flags().StringVar(&to, "to", "", "hand it over to somebody")
	c.Flags().BoolVar(&letGo, "undo", false, "let it go again")
	return c
}

func noteCommand() *cobra.Command {
	o := &places{}
	c := &cobra.Command{
		Use:     "note ALERT WORDS",
		Short:   "Writes a note to an alert",
		Example: `  dimlantern note k3f9a0c2d1e8 "the strainer was full of weed"`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) < 2 {
				return errors.New("note needs an ALERT and WORDS: see dimlantern note --help")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			out := cmd.OutOrStdout()
			return act(out, o, api.ActQuery{What: "note", Alert: args[0], Words: strings.Join(args[1:], " ")})
		},
	}
	o.dataFlag(c)
	return c
}

func hushCommand() *cobra.Command {
	o := &places{}
	h := api.ByHand{}
	var until, why, end string
	var span string
	var list, asJSON bool
	c := &cobra.Command{
		Use:   "hush [ALERT]",
		Short: "Keeps something quiet for a while, or lists what is kept quiet",
		Long: `Hush keeps an alert, all of a rule, all rules about a word, or a host quiet: what happens
is recorded, and told nobody. What is still open when the hush ends is told then.
Without anything to hush it lists all hushes, those in the settings too, each with what
it is keeping quiet.`,
		Example: "  dimlantern hush k3f9a0c2d1e8 --for 2h --why \"strainer is being cleaned\"\n  dimlantern hush " +
			"--host pump-03 --until 2026-11-25T06:00:00Z --why \"moved to the new hall\"\n  dimlantern hush\n  " +
			"dimlantern hush --end h-3k9d02ma",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			out := cmd.OutOrStdout()
			if len(args) == 1 {
				h.Alert = args[0]
			}
			what := h.Alert + h.Rule + h.About + h.Host
			switch {
			case end != "" && what == "":
				return act(out, o, api.ActQuery{What: "unhush", Hush: &api.ByHand{ID: end}, Words: why})
			case what == "":
				return listHushes(out, o, asJSON)
			case until != "" && span != "":
				return errors.New("--until and --for do not go together")
			}
			if span != "" {
				d, err := entry.ParseDuration(span)
				if err != nil || d <= 0 {
					return fmt.Errorf("--for %s is no time: write 30m, 2h or 1d", span)
				}
				h.Until = entry.Of(time.Now().Add(d))
			}
			if until != "" {
				at, err := entry.ParseTime(until, time.Now(), true)
				if err != nil {
					return err
				}
				h.Until = entry.Of(at)
			}
			return act(out, o, api.ActQuery{What: "hush", Alert: h.Alert, Hush: &h, Words: why})
		},
	}
	o.dataFlag(c)
	c.Flags().StringVar(&h.Rule, "rule", "", "all alerts of a rule")
	c.Flags().StringVar(&h.About, "about", "", "all alerts of rules about a word")
	c.Flags().StringVar(&h.Host, "host", "", "all alerts of a host")
	c.Flags().StringVar(&until, "until", "", "when it ends: "+entry.Times)
	c.Flags().StringVar(&span, "for", "", "how long it lasts: 30m, 2h, 1d; without --for and --until, until "+
		"somebody ends it")
	c.Flags().StringVar(&why, "why", "", "why")
	c.Flags().StringVar(&end, "end", "", "ends the hush of that name")
	c.Flags().BoolVar(&list, "list", false, "lists the hushes")
	c.Flags().BoolVar(&asJSON, "json", false, "the list as JSON, one hush a line")
	return c
}

func listHushes(out io.Writer, o *places, asJSON bool) error {
	return asked(o, func(ctx context.Context, s api.Lantern) error {
		all, err := api.AskHushes.Call(ctx, s, api.None{})
		if err != nil {
			return err
		}
		for _, h := range all.List {
			if asJSON {
				printJSON(out, h)
				continue
			}
			holds := "not now"
			if h.Holds {
				holds = "holds"
			}
			fmt.Fprintf(out, "%s  %s, %s, by %s", h.ID, shown(h.What), h.When, shown(h.By))
			if h.Why != "" {
				fmt.Fprintf(out, ": %s", shown(h.Why))
			}
			fmt.Fprintf(out, " (%s)\n", holds)
			for _, k := range h.Keeps {
				fmt.Fprintln(out, "    keeps quiet: "+shown(k))
			}
		}
		if len(all.List) == 0 && !asJSON {
			fmt.Fprintln(out, "nothing is hushed")
		}
		return nil
	})
}

func tellCommand() *cobra.Command {
	o := &places{}
	var test, rule, severity, change, at string
	var key []string
	var asJSON bool
	c := &cobra.Command{
		Use:   "tell --test CONTACT | --if RULE",
		Short: "Tells a contact a test; or says who would be told of an alert",
		Long: `Tell --test tries every way of a contact of the settings with a test message, as the
service would, and prints for each what the receiver said, or what went wrong and what
would mend it. The exit status is 1 where one of them fails.

Tell --if says who would hear what when, were an alert of a rule raised at a time, and
of everybody else why they would not: escalation, hours and hushes of the settings can
be tried so. The exit status is 1 where nobody would be told.`,
		Example: "  dimlantern tell --test duty\n  dimlantern tell --if pump-low --severity critical --at " +
			`"tomorrow 03:00"`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			out := cmd.OutOrStdout()
			if (test == "") == (rule == "") {
				return errors.New("tell needs --test CONTACT, or --if RULE: see dimlantern tell --help")
			}
			if err := o.clean(); err != nil {
				return err
			}
			settings, err := loadRules(o.settings)
			if err != nil {
				return err
			}
			if rule != "" {
				return tellIf(out, settings, rule, severity, change, at, key, asJSON)
			}
			contact := settings.Contact(test)
			if contact == nil {
				return fmt.Errorf("--test: %w", notify.NoContact(settings, test))
			}
			return tellTest(out, o.settings, settings, contact)
		},
	}
	o.flags(c)
	c.Flags().StringVar(&test, "test", "", "the contact that is told a test")
	c.Flags().StringVar(&rule, "if", "", "the rule whose alert is asked about")
	c.Flags().StringVar(&severity, "severity", "", "its severity; when absent the worst that the rule raises")
	c.Flags().StringVar(&change, "change", "raised", "what happens to it: "+strings.Join(changes, ", "))
	c.Flags().StringVar(&at, "at", "now", "when that happens: "+entry.Times)
	c.Flags().StringArrayVar(&key, "key", nil, "a value of its key: FIELD=VALUE, several times")
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object a contact")
	return c
}

// changes are what is told of an alert.
var changes = []string{engine.Raised, engine.Worsened, engine.Repeated, engine.Cleared, engine.Reopened}

// tellIf says who would be told of an alert.
func tellIf(out io.Writer, settings *lang.Settings, rule, severity, change, at string, key []string,
	asJSON bool) error {
	r := settings.Rule(rule)
	if r == nil {
		return noRule(settings, rule)
	}
	when, err := entry.ParseTime(at, time.Now(), true)
	if err != nil {
		return fmt.Errorf("--at: %w", err)
	}
	t := &engine.Transition{At: entry.Of(when), Change: change, Rule: rule, Fields: r.Per,
		Key: make([]string, len(r.Per))}
	if !slices.Contains(changes, change) {
		return fmt.Errorf("--change %s: it is one of %s", change, strings.Join(changes, ", "))
	}
	for i := range r.Raises {
		t.Severity = max(t.Severity, r.Raises[i].Severity)
	}
	t.Severity = max(t.Severity, r.Blind)
	if severity != "" {
		if t.Severity = entry.SeverityOf(severity); t.Severity == 0 {
			return fmt.Errorf("--severity %s: it is notice, warning, error or critical", severity)
		}
	}
	for _, k := range key {
		field, value, ok := strings.Cut(k, "=")
		i := slices.Index(r.Per, field)
		if !ok || i < 0 {
			return fmt.Errorf("--key %s: write FIELD=VALUE; the fields of %s are: %s", k, rule,
				strings.Join(r.Per, ", "))
		}
		t.Key[i] = value
	}
	list, quiet := notify.Would(settings, t)
	told := false
	if !asJSON {
		fmt.Fprintf(out, "%s %s as %s at %s\n", rule, change, t.Severity, when.Format("Mon 2 Jan 15:04:05 MST"))
	}
	if quiet != "" && !asJSON {
		fmt.Fprintf(out, "  nobody is told: %s; what is still open at its end is told then\n", quiet)
		return failed{}
	}
	for _, h := range list {
		told = told || h.Due != entry.None && quiet == ""
		if asJSON {
			x := map[string]any{"contact": h.Contact, "ways": h.Ways, "words": h.Words}
			if h.Due != entry.None {
				x["at"] = h.Due.String()
			}
			if quiet != "" {
				x["quiet"] = quiet
			}
			printJSON(out, x)
			continue
		}
		words := "is not told: " + h.Words
		if h.Due != entry.None {
			words = fmt.Sprintf("by %s at %s", strings.Join(h.Ways, " and "),
				h.Due.Time().Local().Format("Mon 15:04:05 MST"))
			if h.Words != "" {
				words += "; " + h.Words
			}
		}
		fmt.Fprintf(out, "  %-20s %s\n", h.Contact, words)
	}
	if len(list) == 0 {
		fmt.Fprintln(out, "  nobody: the settings have no contact")
	}
	if !told {
		return failed{}
	}
	return nil
}

// noRule says that there is no such rule, and which is called nearly so.
func noRule(s *lang.Settings, name string) error {
	var names []string
	for _, r := range s.Rules {
		names = append(names, r.Name)
	}
	slices.Sort(names)
	if len(names) > 8 {
		names = append(names[:8:8], "…")
	}
	return fmt.Errorf("there is no rule %s; there are: %s", name, strings.Join(names, ", "))
}

func tellTest(out io.Writer, folder string, settings *lang.Settings, contact *lang.Contact) error {
	words, err := via.ReadWords(folder, time.Local)
	if err != nil {
		return err
	}
	tested, err := notify.TestOf(context.Background(), words, settings, contact, nil, hostName(), userName())
	if err != nil {
		return err
	}
	bad := printTested(out, tested)
	if contact.Off {
		fmt.Fprintln(out, "The contact is off in the settings: it is told nothing but this.")
	}
	if bad {
		return failed{}
	}
	return nil
}

// printTested says what came of a test; true where some way does not go.
func printTested(out io.Writer, t *api.Tested) (bad bool) {
	for _, w := range t.Ways {
		if w.OK {
			fmt.Fprintf(out, "%s: told; %s\n", w.Way, shown(w.Answer))
			continue
		}
		bad = true
		fmt.Fprintf(out, "%s: it does not go\n", w.Way)
		if w.Where != "" {
			fmt.Fprintf(out, "  %s: %s\n", w.Where, shown(w.What))
		} else {
			fmt.Fprintf(out, "  %s\n", shown(w.What))
		}
		if w.Mend != "" {
			fmt.Fprintf(out, "  to mend it: %s\n", w.Mend)
		}
	}
	return bad
}

func contactsCommand() *cobra.Command {
	o := &places{}
	var asJSON bool
	c := &cobra.Command{
		Use:   "contacts",
		Short: "Who is told, by which ways, and how that goes",
		Long: `Contacts asks the running service for all contacts: their ways, their limits, what waits for
them, when each way worked last, and why it did not.`,
		Example: "  dimlantern contacts\n  dimlantern contacts --json",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			out := cmd.OutOrStdout()
			return asked(o, func(ctx context.Context, s api.Lantern) error {
				v, err := api.AskContacts.Call(ctx, s, api.None{})
				if err != nil {
					return err
				}
				if len(v.List) == 0 && !asJSON {
					fmt.Fprintln(out, "the settings have no contact: nobody is told anything")
				}
				for _, x := range v.List {
					if asJSON {
						printJSON(out, x)
						continue
					}
					printContact(out, &x)
				}
				return nil
			})
		},
	}
	o.dataFlag(c)
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object a line")
	return c
}

func printContact(out io.Writer, x *api.ContactView) {
	line := x.Name
	if x.Off {
		line += ", off"
	}
	for _, l := range x.Limits {
		line += ", " + l
	}
	fmt.Fprintln(out, line)
	if x.Waits > 0 {
		fmt.Fprintf(out, "  %s to be told\n", count(x.Waits, "thing waits", "things wait"))
	}
	for _, w := range x.Ways {
		fmt.Fprintf(out, "  %-9s %s: %s\n", w.Way, shown(w.Where), shown(w.Say()))
	}
}

func statusCommand() *cobra.Command {
	o := &places{}
	var asJSON bool
	c := &cobra.Command{
		Use:   "status",
		Short: "How the running service is; for people and for scripts",
		Long: `Status asks the running service how it is. The exit status is 0 where all is well, 1
where something keeps it from doing all of its work, and 2 where no service answers.`,
		Example: "  dimlantern status || echo \"something is the matter with Dim Lantern\"",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			out := cmd.OutOrStdout()
			if err := o.clean(); err != nil {
				return err
			}
			ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
			defer cancel()
			s, err := api.AskStatus.Call(ctx, service.Join(o.data), api.None{})
			if err != nil {
				return fmt.Errorf("no service runs on %s: %w", o.data, err)
			}
			if asJSON {
				printJSON(out, struct {
					Well bool `json:"well"`
					*api.Status
				}{s.Well(), s})
			} else {
				printStatus(out, s)
			}
			if !s.Well() {
				return failed{}
			}
			return nil
		},
	}
	o.dataFlag(c)
	c.Flags().BoolVar(&asJSON, "json", false, "as one JSON object")
	return c
}

func printStatus(out io.Writer, s *api.Status) {
	started, _ := time.Parse(time.RFC3339Nano, s.Started)
	fmt.Fprintf(out, "on %s since %s, settings %s\n", s.Host, started.Local().Format("2 Jan 15:04:05"),
		filepath.Base(s.Settings))
	fmt.Fprintf(out, "%s, %s, %s\n", countOf(s.Rules, "rule", "rules"), countOf(s.Sources, "source", "sources"),
		countOf(s.Origins, "origin", "origins"))
	var open []string
	n := 0
	for i := len(entry.Severities) - 1; i >= 0; i-- {
		if k := s.Open[entry.Severities[i]]; k > 0 {
			open = append(open, fmt.Sprintf("%d %s", k, entry.Severities[i]))
			n += k
		}
	}
	line := countOf(n, "open alert", "open alerts")
	if n > 0 {
		line += " (" + strings.Join(open, ", ") + ")"
	}
	fmt.Fprintf(out, "%s, %d taken, %s, %s\n", line, s.Taken, countOf(s.Hushes, "hush", "hushes"),
		countOf(s.Waiting, "message waits", "messages wait"))
	for _, b := range s.Blind {
		fmt.Fprintln(out, "blind: "+shown(b))
	}
	for _, t := range s.Trouble {
		fmt.Fprintln(out, "trouble: "+shown(t))
	}
	if s.Well() {
		fmt.Fprintln(out, "all is well with it")
	}
}

func countOf(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
