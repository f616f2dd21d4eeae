// Command dimlantern is the command line of Dim Lantern: it reads arguments and
// files, and hands them to the packages that do the work.
package main

import (
	"errors"
	"fmt"
	"os"
	"strings"
	_ "time/tzdata" // zones, where the machine has none installed

	"github.com/spf13/cobra"
)

// Exit statuses.
const (
	exitWell    = 0
	exitFailed  = 1 // findings or failures
	exitMisused = 2 // wrong usage, or unreadable
)

// failed is an error of exit status 1, whose message has been printed already
// where it is empty.
type failed struct{ msg string }

func (f failed) Error() string { return f.msg }

func main() {
	root := newRoot()
	root.SetOut(guarded(os.Stdout))
	args := os.Args[1:]
	for i, a := range args { // as those who test write it
		if args[0] == "test" && (a == "-run" || strings.HasPrefix(a, "-run=")) {
			args[i] = "-" + a
		}
	}
	root.SetArgs(args)
	err := root.Execute()
	var f failed
	switch {
	case err == nil:
		os.Exit(exitWell)
	case errors.As(err, &f):
		if f.msg != "" {
			fmt.Fprintln(guarded(os.Stderr), "dimlantern:", f.msg)
		}
		os.Exit(exitFailed)
	}
	fmt.Fprintln(guarded(os.Stderr), "dimlantern:", err)
	os.Exit(exitMisused)
}

func newRoot() *cobra.Command {
	o, l := &places{}, &looks{}
	root := &cobra.Command{
		Use:   "dimlantern",
		Short: "Rules that watch logs, and the screens to see what they find",
		Long: `Dim Lantern follows log files, raises alerts by the rules in a settings folder,
and clears them by itself. Without a command it opens the screens.`,
		Example: `  dimlantern demo                      # a made-up harbour, live
  dimlantern --settings ./rules        # the screens on your own rules`,
		SilenceUsage:  true,
		SilenceErrors: true,
		Args:          noArgs,
		RunE:          func(cmd *cobra.Command, _ []string) error { return openScreens(o, l) },
	}
	o.flags(root)
	l.flags(root)
	root.Version = version()
	root.SetVersionTemplate("dimlantern {{.Version}}\n")
	root.SuggestionsMinimumDistance = 2
	root.AddCommand(checkCommand(), fmtCommand(), testCommand(), replayCommand(), whyCommand(),
		watchCommand(), historyCommand(), demoCommand(), clearCommand(), takeCommand(), hushCommand(), noteCommand(),
		handoverCommand(), tellCommand(), statusCommand(), applyCommand(), rereadCommand(), contactsCommand(),
		rulesCommand(), sourcesCommand(),
		channelsCommand(), nearCommand(), proposeCommand(), detectCommand(), shapesCommand(), fieldsCommand(),
		findCommand(), askCommand(), asksCommand(), reportCommand(), reportsCommand(), measuresCommand(),
		deliveriesCommand(), keepCommand(), kitsCommand(), effectiveCommand(),
		hostsCommand(), inviteCommand(), joinCommand(), rollCommand(), backupCommand(), manCommand())
	completions(root)
	return root
}

// noArgs refuses arguments, with the commands that there are.
func noArgs(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	if s := cmd.SuggestionsFor(args[0]); len(s) > 0 {
		return fmt.Errorf("there is no command %q: did you mean %s?", args[0], s[0])
	}
	return fmt.Errorf("there is no command %q: see dimlantern --help", args[0])
}

// atLeast refuses a command without what it needs.
func atLeast(what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return fmt.Errorf("%s needs %s: see dimlantern %s --help", cmd.Name(), what, cmd.Name())
		}
		return nil
	}
}

// exactlyOne refuses a command with none or several of what it needs.
func exactlyOne(what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != 1 {
			return fmt.Errorf("%s needs %s, and was given %d: see dimlantern %s --help", cmd.Name(), what, len(args),
				cmd.Name())
		}
		return nil
	}
}

// needFlags refuses a command without flags that it cannot do without.
func needFlags(names ...string) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, _ []string) error {
		for _, n := range names {
			if !cmd.Flags().Changed(n) {
				return fmt.Errorf("%s needs --%s: see dimlantern %s --help", cmd.Name(), n, cmd.Name())
			}
		}
		return nil
	}
}
