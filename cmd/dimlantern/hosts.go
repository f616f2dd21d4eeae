package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/folder"
	"dimlantern/hosts"
)

func hostsCommand() *cobra.Command {
	o := &places{}
	var asJSON bool
	c := &cobra.Command{
		Use:   "hosts",
		Short: "Who reports to this centre, who is silent, what each runs and refuses",
		Long: `Hosts lists the machines that have joined the centre that runs on this one: what needs a look
first. On a machine that has joined a centre it says how it stands to that.`,
		Example: "  dimlantern hosts\n  dimlantern hosts --json\n  dimlantern hosts rename pump-9 pump-09\n  " +
			"dimlantern hosts forget pump-9",
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			out := cmd.OutOrStdout()
			return asked(o, func(ctx context.Context, s api.Lantern) error {
				v, err := api.AskHosts.Call(ctx, s, api.ViewQuery{Column: time.Minute, Columns: 60})
				if err != nil {
					return err
				}
				if asJSON {
					for i := range v.Hosts {
						printJSON(out, &v.Hosts[i])
					}
					return nil
				}
				printHosts(out, v)
				return nil
			})
		},
	}
	o.dataFlag(c)
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object a host")
	c.AddCommand(hostsDo("rename", "HOST NAME", "Calls a host otherwise; its alerts and its history go on", 2),
		hostsDo("forget", "HOST", "Ends a host's rights and its connection at once, and clears its alerts", 1),
		hostsDo("take-back", "INVITATION", "Ends an invitation before its time", 1), revisionsCommand())
	return c
}

func hostsDo(what, args, short string, n int) *cobra.Command {
	o := &places{}
	c := &cobra.Command{
		Use:   what + " " + args,
		Short: short,
		Args: func(_ *cobra.Command, list []string) error {
			if len(list) != n {
				return fmt.Errorf("%s needs %s", what, strings.ReplaceAll(args, " ", " and "))
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			q := api.HostQuery{Person: person(), What: strings.ReplaceAll(what, "-", " "), Host: args[0]}
			if n > 1 {
				q.To = args[1]
			}
			return asked(o, func(ctx context.Context, s api.Lantern) error {
				if _, err := api.DoHost.Call(ctx, s, q); err != nil {
					return err
				}
				words := map[string]string{"rename": args[0] + " is called " + q.To + " now",
					"forget":    args[0] + " is forgotten: it may not speak any more, and its alerts are over",
					"take-back": "nobody joins by the invitation " + args[0] + " any more"}
				fmt.Fprintln(cmd.OutOrStdout(), words[what])
				return nil
			})
		},
	}
	o.dataFlag(c)
	return c
}

// printHosts prints hosts as a table: what needs a look first.
func printHosts(out io.Writer, v *api.HostsView) {
	if l := v.Link; l != nil {
		how := "can be reached"
		if !l.Up {
			how = "cannot be reached since " + api.Moment(l.Since)
		}
		fmt.Fprintf(out, "this machine has joined the centre on %s as %s, which %s\n", l.Centre, l.Name, how)
		if l.Number > 0 {
			fmt.Fprintf(out, "it runs revision %d\n", l.Number)
		}
		if l.Refuses != "" {
			fmt.Fprintf(out, "it refuses a newer one: %s\n", l.Refuses)
		}
		for _, b := range l.Beyond {
			fmt.Fprintf(out, "it does not let the centre: %s\n", b)
		}
		if l.Waits > 0 {
			fmt.Fprintf(out, "%s for the centre\n", english.Plural(int(l.Waits), "commit waits", "commits wait"))
		}
	}
	if !v.Centre {
		if v.Link == nil {
			fmt.Fprintln(out, "this machine is alone: settings { centre listen \":7422\" } lets others join it; "+
				"dimlantern join lets it join another")
		}
		return
	}
	reports, silent, refuse := 0, 0, 0
	list := slices.Clone(v.Hosts)
	for _, h := range list {
		switch {
		case h.Silent:
			silent++
		case h.Reports:
			reports++
		}
		if h.Refuses != nil {
			refuse++
		}
	}
	fmt.Fprintf(out, "%s at %s: %d report, %d silent, %d refuse\n", english.Plural(len(list), "host", "hosts"),
		v.Address,
		reports, silent, refuse)
	slices.SortStableFunc(list, func(a, b api.HostView) int {
		return cmp.Or(cmp.Compare(hostTrouble(&b), hostTrouble(&a)), strings.Compare(a.Name, b.Name))
	})
	rows := [][]string{{"HOST", "GROUPS", "STATE", "OPEN", "RUNS", "SINCE"}}
	for i := range list {
		h := &list[i]
		runs, since := "-", ""
		if h.Runs > 0 {
			runs, since = fmt.Sprint(h.Runs), api.Moment(h.RunsFrom)
		}
		if h.Refuses != nil {
			runs += fmt.Sprintf(", refuses %d", h.Refuses.Number)
		} else if h.Head != h.Runs && h.Head != 0 {
			runs += fmt.Sprintf(", %d is for it", h.Head)
		}
		rows = append(rows, []string{h.Name, strings.Join(h.Groups, ","), hostState(h, v.At), fmt.Sprint(h.Open),
			runs, since})
	}
	printTable(out, rows)
	for i := range list {
		h := &list[i]
		if r := h.Refuses; r != nil {
			fmt.Fprintf(out, "%s refuses %d: %s\n", h.Name, r.Number,
				strings.TrimPrefix(strings.Join([]string{r.Where,
					r.Why}, ": "), ": "))
			if r.Mend != "" {
				fmt.Fprintf(out, "    %s\n", r.Mend)
			}
		}
		for _, b := range h.Beyond {
			fmt.Fprintf(out, "%s does not let the centre: %s\n", h.Name, b)
		}
		if h.Cloned != "" {
			fmt.Fprintf(out, "%s: %s; let one of the two join anew: dimlantern join --again\n", h.Name, h.Cloned)
		}
	}
	if v.Halted != "" {
		fmt.Fprintln(out, v.Halted)
	}
	if v.Pending != "" {
		fmt.Fprintf(out, "the settings differ from revision %d (%s): dimlantern roll --to all\n", v.Newest, v.Pending)
	}
}

// hostTrouble is how much a host needs a look.
func hostTrouble(h *api.HostView) int {
	n := int(h.Worst)
	if h.Refuses != nil || h.Cloned != "" {
		n += 10
	}
	if h.Silent {
		n += 20
	}
	return n
}

// hostState says in words how a host is.
func hostState(h *api.HostView, at entry.Instant) string {
	switch {
	case h.Silent:
		return "silent " + entry.RoughSpan(at.Sub(h.Since).Truncate(time.Second))
	case h.Bye:
		return "ended in order"
	case h.Reports:
		return "reports"
	}
	return "not heard yet"
}

// printTable prints rows with their cells below each other.
func printTable(out io.Writer, rows [][]string) {
	width := make([]int, 16)
	for _, r := range rows {
		for i, c := range r {
			width[i] = max(width[i], len([]rune(c)))
		}
	}
	for _, r := range rows {
		line := ""
		for i, c := range r {
			line += c + strings.Repeat(" ", width[i]-len([]rune(c))+2)
		}
		fmt.Fprintln(out, strings.TrimRight(line, " "))
	}
}

func revisionsCommand() *cobra.Command {
	o := &places{}
	var asJSON bool
	c := &cobra.Command{
		Use:   "revisions",
		Short: "What was rolled out, when, by whom, to whom, and who runs it",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			out := cmd.OutOrStdout()
			return asked(o, func(ctx context.Context, s api.Lantern) error {
				v, err := api.AskRevisions.Call(ctx, s, api.None{})
				if err != nil {
					return err
				}
				for _, r := range v.Revisions {
					if asJSON {
						printJSON(out, r)
						continue
					}
					fmt.Fprintf(out, "%d  %s  by %s, to %s; %s it\n", r.Number, api.Moment(r.At), cmp.Or(r.By, "?"),
						strings.Join(r.To, ", "), english.Plural(len(r.Run), "host runs", "hosts run"))
					if r.Back > 0 {
						fmt.Fprintf(out, "    with the text of %d\n", r.Back)
					}
					if r.Words != "" {
						fmt.Fprintf(out, "    %s\n", r.Words)
					}
				}
				if v.Halted != "" && !asJSON {
					fmt.Fprintln(out, v.Halted)
				}
				return nil
			})
		},
	}
	o.dataFlag(c)
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object a revision")
	return c
}

func inviteCommand() *cobra.Command {
	o := &places{}
	q := api.InviteQuery{}
	var lasts string
	c := &cobra.Command{
		Use:   "invite",
		Short: "Makes a code by which a machine joins this centre",
		Long: `Invite prints a code for one machine, or for several with --hosts. It is secret: whoever has it
joins by it, as long as it holds and under the names that it allows. On the machine:
dimlantern join < FILE.`,
		Example: "  dimlantern invite > code\n  dimlantern invite --name \"pump-*\" --hosts 12 --for 1d > code",
		Args:    noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var err error
			if q.For, err = entry.ParseDuration(lasts); err != nil {
				return fmt.Errorf("--for: %w", err)
			}
			q.Person = person()
			return asked(o, func(ctx context.Context, s api.Lantern) error {
				done, err := api.DoInvite.Call(ctx, s, q)
				if err != nil {
					return err
				}
				fmt.Fprintln(cmd.OutOrStdout(), done.Code)
				fmt.Fprintf(cmd.ErrOrStderr(),
					"for %s called %s, until %s, at %s; on the machine: dimlantern join < FILE\n",
					english.Plural(done.Invite.Left, "machine", "machines"), strings.Join(done.Invite.Names, " or "),
					api.Moment(done.Invite.Until), done.Address)
				return nil
			})
		},
	}
	o.dataFlag(c)
	c.Flags().StringArrayVar(&q.Names, "name", nil,
		"a pattern of the names that it is for, such as pump-*; again for more")
	c.Flags().IntVar(&q.Hosts, "hosts", 1, "how many machines may join by it")
	c.Flags().StringVar(&lasts, "for", "1h", "how long it holds")
	c.Flags().StringVar(&q.Address, "at", "",
		"the address by which machines reach the centre (one of this machine's when "+
			"absent)")
	return c
}

func joinCommand() *cobra.Command {
	o := &places{}
	var name string
	var again bool
	c := &cobra.Command{
		Use:   "join",
		Short: "Joins a centre, by a code that comes by standard input",
		Long: `Join reads a code that dimlantern invite has made, from standard input, and lets this machine join
that centre. What the centre may do here is written into the settings, where it can be changed:
it may read what lies under /var/log, and the journal, and run nothing.`,
		Example: "  dimlantern join < code\n  ssh lock-3 dimlantern invite | dimlantern join --as pump-03",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 0 {
				return errors.New("the code comes by standard input, since others see what stands in a command: " +
					"dimlantern join < FILE")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := o.clean(); err != nil {
				return err
			}
			if in, ok := cmd.InOrStdin().(*os.File); ok && in == os.Stdin && piped() == nil {
				fmt.Fprintln(cmd.ErrOrStderr(), "paste the code, then ^D:")
			}
			text, err := io.ReadAll(io.LimitReader(cmd.InOrStdin(), 64<<10))
			if err != nil {
				return err
			}
			code, err := hosts.ReadCode(string(text))
			if err != nil {
				return failed{err.Error()}
			}
			if name == "" {
				name, _, _ = strings.Cut(hostName(), ".")
			}
			ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
			defer cancel()
			id, err := hosts.Join(ctx, code, name, version(), o.data, again)
			if err != nil {
				return failed{err.Error()}
			}
			out := cmd.OutOrStdout()
			fmt.Fprintf(out, "joined the centre on %s as %s\n", id.Centre, id.Name)
			file, err := letCentre(o.settings)
			if err != nil {
				return failed{err.Error()}
			}
			if file != "" {
				fmt.Fprintf(out, "what the centre may do here stands in %s\n", file)
			}
			fmt.Fprintln(out,
				"it is a service like any other: dimlantern watch, or one that runs already, goes on as a host")
			return nil
		},
	}
	o.flags(c)
	c.Flags().StringVar(&name, "as", "", "what this machine is to be called (its host name when absent)")
	c.Flags().BoolVar(&again, "again", false, "leave the centre that was joined before")
	return c
}

// letCentre writes into settings what a centre may do, where nothing says that yet.
func letCentre(settings string) (string, error) {
	texts, err := folder.Read(settings)
	if err == nil {
		if s, _ := folder.CheckErrors(texts); s.Hosts.May != nil {
			return "", nil
		}
	}
	dir := settings
	if info, err := os.Stat(settings); err == nil && !info.IsDir() {
		dir = filepath.Dir(settings)
	}
	file := filepath.Join(dir, "centre-may.lantern")
	err = folder.WriteNew(file, `# What the centre that was joined may do here; nobody changes it from afar.
settings {
  centre may read "/var/log/**", "journal"
  centre may run nothing
}
`)
	if errors.Is(err, os.ErrExist) {
		return "",
			fmt.Errorf("%s is there already, and does not say what the centre may do: write settings { centre may "+
				"read \"/var/log/**\" }", file)
	}
	return file, err
}

func rollCommand() *cobra.Command {
	o := &places{}
	q := api.RollQuery{}
	var asJSON, show bool
	var stop string
	c := &cobra.Command{
		Use:   "roll",
		Short: "Rolls the settings out to hosts, as a numbered revision",
		Long: `Roll makes a revision of the settings as they are, and lets hosts have what is for their groups. It can
go to one host first, then to a group, then to all; with --stop after 3 it ends by itself after so
many refusals. A host that finds an error in it, or of which a test fails, goes on with what it had.`,
		Example: "  dimlantern roll --to pump-01\n  dimlantern roll --to group pumps --stop after 3\n  " +
			"dimlantern roll --to all --back 40",
		Args: func(_ *cobra.Command, args []string) error {
			return rollWords(&q, stop, args)
		},
		RunE: func(cmd *cobra.Command, _ []string) error {
			q.Person, q.Do = person(), !show
			out := cmd.OutOrStdout()
			return asked(o, func(ctx context.Context, s api.Lantern) error {
				done, err := api.DoRoll.Call(ctx, s, q)
				if err != nil {
					return err
				}
				if asJSON {
					printJSON(out, done)
					return nil
				}
				what, to := "is on its way to", "nobody yet: hosts get it when they join"
				if show {
					what = "would go to"
				}
				if len(done.Hosts) > 0 {
					if to = strings.Join(done.Hosts, ", "); len(done.Hosts) > 8 {
						to = english.Plural(len(done.Hosts), "host", "hosts")
					}
				}
				fmt.Fprintf(out, "revision %d %s %s\n", done.Number, what, to)
				if done.Words != "" {
					fmt.Fprintln(out, done.Words)
				}
				return nil
			})
		},
	}
	o.dataFlag(c)
	c.Flags().StringArrayVar(&q.To, "to", nil, "all, group NAME, or a host; again for more")
	c.Flags().StringVar(&stop, "stop", "", "after N: stop after so many refusals")
	c.Flags().Int64Var(&q.Back, "back", 0, "with the text of an earlier revision")
	c.Flags().BoolVar(&show, "show", false, "say what it would do, and do nothing")
	c.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	return c
}

// rollWords takes in the words that stand behind --to group and --stop after.
func rollWords(q *api.RollQuery, stop string, args []string) error {
	number := func(a string) bool { _, err := strconv.Atoi(a); return err == nil }
	if i := slices.IndexFunc(args, number); stop == "after" && i >= 0 {
		stop = args[i]
		args = slices.Delete(slices.Clone(args), i, i+1)
	}
	if stop != "" {
		n, err := strconv.Atoi(stop)
		if err != nil || n < 1 {
			return fmt.Errorf("--stop %s: after how many refusals? Write --stop after 3", stop)
		}
		q.Stop = n
	}
	for i, to := range q.To {
		if to == "group" && len(args) > 0 {
			q.To[i] = "group " + args[0]
			args = args[1:]
		}
	}
	if len(args) > 0 {
		return fmt.Errorf("%q says nothing here: --to all, --to group NAME or --to HOST", args[0])
	}
	return nil
}

// printHostEffective prints what a host runs.
func printHostEffective(out io.Writer, v *api.Effective, asJSON bool) {
	if asJSON {
		for _, b := range v.Blocks {
			printJSON(out, b)
		}
		return
	}
	if v.Number > 0 {
		fmt.Fprintf(out, "# %s runs revision %d\n", v.Host, v.Number)
	} else {
		fmt.Fprintf(out, "# %s runs no revision of a centre\n", v.Host)
	}
	for _, b := range v.Blocks {
		switch {
		case b.Aside:
			fmt.Fprintf(out, "# put aside: %s %s, %s: %s\n", b.Kind, b.Name, b.From, b.Differs)
		default:
			fmt.Fprintf(out, "# from %s\n", b.From)
			if b.Differs != "" {
				fmt.Fprintf(out, "# %s\n", b.Differs)
			}
			fmt.Fprintln(out, cmp.Or(b.Text, fmt.Sprintf("# %s %s, of which the text is on the host", b.Kind,
				b.Name)))
		}
	}
}
