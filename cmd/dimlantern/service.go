package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"os/user"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"dimlantern/api"
	"dimlantern/folder"
	"dimlantern/hosts/sim"
	"dimlantern/query"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/demo"
	"dimlantern/demo/fleet"
	"dimlantern/screens"
	"dimlantern/service"
	"dimlantern/store"
)

// places are the folders that a service works with.
type places struct{ settings, data string }

// looks are how the screens are drawn.
type looks struct{ marks, ground string }

func (l *looks) flags(c *cobra.Command) {
	c.Flags().StringVar(&l.marks, "marks", "", "plain draws with ASCII alone, fine with all marks (the terminal "+
		"decides when absent)")
	c.Flags().StringVar(&l.ground, "ground", "", "dark or light (the terminal is asked when absent)")
}

func (l *looks) options(o screens.Options) (screens.Options, error) {
	switch {
	case l.marks != "" && l.marks != "plain" && l.marks != "fine":
		return o, fmt.Errorf("--marks is plain or fine, not %q", l.marks)
	case l.ground != "" && l.ground != "dark" && l.ground != "light":
		return o, fmt.Errorf("--ground is dark or light, not %q", l.ground)
	}
	o.Marks, o.Ground = l.marks, l.ground
	return o, nil
}

func (o *places) flags(c *cobra.Command) {
	c.Flags().StringVar(&o.settings, "settings", defaultFolder("CONFIGURATION_DIRECTORY", "XDG_CONFIG_HOME",
		".config", "/etc"), "the settings folder")
	o.dataFlag(c)
}

func (o *places) dataFlag(c *cobra.Command) {
	c.Flags().StringVar(&o.data, "data", defaultFolder("STATE_DIRECTORY", "XDG_STATE_HOME", ".local/state",
		"/var/lib"), "the data folder")
}

// defaultFolder is the folder that the service manager gives, else the user's,
// else the system's.
func defaultFolder(given, xdg, home, system string) string {
	if d := os.Getenv(given); d != "" {
		first, _, _ := strings.Cut(d, ":")
		return first
	}
	if d := os.Getenv(xdg); filepath.IsAbs(d) {
		return filepath.Join(d, "dimlantern")
	}
	if h, err := os.UserHomeDir(); err == nil {
		return filepath.Join(h, home, "dimlantern")
	}
	return filepath.Join(system, "dimlantern")
}

func (o *places) clean() error {
	for _, p := range []*string{&o.settings, &o.data} {
		abs, err := filepath.Abs(*p)
		if err != nil {
			return err
		}
		*p = abs
	}
	return nil
}

func userName() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return fmt.Sprintf("user %d", os.Getuid())
}

// openScreens joins the service of the data folder, or runs one inside.
func openScreens(o *places, l *looks) error {
	if err := o.clean(); err != nil {
		return err
	}
	opts, err := l.options(screens.Options{Name: filepath.Base(o.settings), User: userName(),
		Terminal: terminalName()})
	if err != nil {
		return err
	}
	if !term.IsTerminal(int(os.Stdout.Fd())) {
		return errors.New("the screens need a terminal; without one, use dimlantern watch, history or replay")
	}
	s, err := service.Open(service.Options{Settings: o.settings, Data: o.data, Input: piped(),
		Where: "only while this window is open"})
	var used *service.InUse
	if errors.As(err, &used) {
		opts.Lantern, opts.Where = service.Join(o.data), "joined"
		return screens.Run(opts)
	}
	if err != nil {
		return err
	}
	opts.Lantern = s.Desk()
	return runInside(s, opts)
}

// piped is standard input where somebody writes into it; nil where it is a terminal
// or nothing.
func piped() io.Reader {
	info, err := os.Stdin.Stat()
	if err != nil || info.Mode()&os.ModeCharDevice != 0 {
		return nil
	}
	return os.Stdin
}

// runInside runs a service beside its screens, and ends it with them.
func runInside(s *service.Service, o screens.Options) error {
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Run(ctx) }()
	go s.Serve(ctx)
	err := screens.Run(o)
	cancel()
	return errors.Join(err, <-ended)
}

func watchCommand() *cobra.Command {
	o := &places{}
	var asJSON bool
	var unit string
	c := &cobra.Command{
		Use:   "watch",
		Short: "The service without screens",
		Long: `Watch follows the sources of the settings folder until it is told to end (^C or
SIGTERM). SIGHUP, or a change in the folder, takes up new settings. With --json
each committed transition is printed as one line. With --install it writes a unit
for systemd instead, with these folders, and says what is still to be done.`,
		Example: "  dimlantern watch --settings ./rules --data ./state --json\n  dimlantern watch --settings " +
			"/etc/dimlantern --data /var/lib/dimlantern --install",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			out := c.OutOrStdout()
			if err := o.clean(); err != nil {
				return err
			}
			if c.Flags().Changed("install") {
				return install(out, strings.TrimSpace(unit), o)
			}
			opts := service.Options{Settings: o.settings, Data: o.data, Input: piped(), Where: "service on " +
				hostName(),
				Log: slog.New(slog.NewTextHandler(os.Stderr, nil))}
			opts.Committed = func(ts []engine.Transition) {
				for _, t := range ts {
					if b, err := t.MarshalJSON(); asJSON && err == nil {
						jsonOut(out).Write(append(b, '\n'))
					} else if err == nil {
						fmt.Fprintf(out, "%s  %-9s %-8s %s %s  %s\n",
							time.Unix(0, int64(t.At)).Format("2006-01-02 15:04:05"), t.Change, t.Severity, t.Rule,
							shown(strings.Join(t.Key, " ")), shown(t.Say))
					}
				}
			}
			s, err := service.Open(opts)
			if err != nil {
				return failedIfUsed(err)
			}
			ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			hup := make(chan os.Signal, 1)
			signal.Notify(hup, syscall.SIGHUP)
			go func() {
				for range hup {
					s.Reload()
				}
			}()
			go func() {
				if err := s.Serve(ctx); err != nil {
					opts.Log.Warn("screens cannot join", "reason", err)
				}
			}()
			return s.Run(ctx)
		},
	}
	o.flags(c)
	c.Flags().BoolVar(&asJSON, "json", false, "print each committed transition as a line")
	c.Flags().StringVar(&unit, "install", "", "write a unit for systemd, to the system's place or to this file")
	c.Flags().Lookup("install").NoOptDefVal = " "
	return c
}

// failedIfUsed makes a folder that is in use a failure, not wrong usage.
func failedIfUsed(err error) error {
	var used *service.InUse
	if errors.As(err, &used) {
		return failed{err.Error()}
	}
	return err
}

// person is who types this command, and where.
func person() api.Person { return api.Person{By: userName(), From: terminalName()} }

// terminalName is the machine, and the terminal there, at which somebody sits.
func terminalName() string {
	name := hostName()
	if tty, err := os.Readlink("/proc/self/fd/0"); err == nil && strings.HasPrefix(tty, "/dev/") {
		name += " " + strings.TrimPrefix(tty, "/dev/")
	}
	if peer, _, _ := strings.Cut(os.Getenv("SSH_CONNECTION"), " "); peer != "" {
		name += " from " + peer
	}
	return name
}

func hostName() string {
	h, err := os.Hostname()
	if err != nil {
		return "this machine"
	}
	return h
}

func historyCommand() *cobra.Command {
	o := &places{}
	var asJSON, actions bool
	var from, until, rule string
	var key []string
	c := &cobra.Command{
		Use:   "history",
		Short: "The transitions that are kept in the data folder, or what people did",
		Long: `History prints the transitions that were committed, oldest first, while the service
runs or not. With --actions it prints instead what people did, and each change of the
settings: who, when, where from, why, what differs.`,
		Example: `  dimlantern history --from "yesterday 20:33" --rule pump-low --key host=pump-03
  dimlantern history --actions`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			out := cmd.OutOrStdout()
			at, err := bound("--from", from)
			if err != nil {
				return err
			}
			to, err := bound("--until", until)
			if err != nil {
				return err
			}
			if at == 0 {
				at = entry.None
			}
			wanted, err := historyFilter(to, rule, key)
			if err != nil {
				return err
			}
			s, err := store.OpenToRead(o.data)
			if err != nil {
				return err
			}
			defer s.Close()
			if actions {
				return printActions(out, s, at, asJSON)
			}
			out = jsonOut(out)
			return s.Lines(0, at, func(_ int64, line string) {
				if !wanted(line) {
					return
				}
				if asJSON {
					fmt.Fprintln(out, line)
					return
				}
				fmt.Fprintln(out, historyLine(line))
			})
		},
	}
	o.dataFlag(c)
	c.Flags().BoolVar(&asJSON, "json", false, "one transition a line")
	c.Flags().StringVar(&from, "from", "", "begin with transitions of this time: "+entry.Times)
	c.Flags().StringVar(&until, "until", "", "end before transitions of this time")
	c.Flags().StringVar(&rule, "rule", "", "of that rule alone")
	c.Flags().StringArrayVar(&key, "key", nil, "of keys with that value alone: FIELD=VALUE, several times")
	c.Flags().BoolVar(&actions, "actions", false, "what people did, and changes of the settings")
	return c
}

// historyFilter tells which of the kept transitions are wanted.
func historyFilter(to entry.Instant, rule string, key []string) (func(line string) bool, error) {
	want := map[string]string{}
	for _, k := range key {
		field, value, ok := strings.Cut(k, "=")
		if !ok {
			return nil, fmt.Errorf("--key %s: write FIELD=VALUE, such as host=pump-03", k)
		}
		want[field] = value
	}
	return func(line string) bool {
		if to == 0 && rule == "" && len(want) == 0 {
			return true
		}
		var t engine.Transition
		if json.Unmarshal([]byte(line), &t) != nil || rule != "" && t.Rule != rule || to != 0 && t.At >= to {
			return false
		}
		for f, v := range want {
			if t.Value(f) != v {
				return false
			}
		}
		return true
	}, nil
}

func clearCommand() *cobra.Command {
	o := &places{}
	var words string
	c := &cobra.Command{
		Use:   "clear ALERT",
		Short: "Ends an alert by hand",
		Long: "Clear tells the running service that a person has ended an alert. ALERT is its identifier, as " +
			"history and watch --json print it.",
		Example: `  dimlantern clear k3f9a0c2d1e8 --words "strainer cleaned"`,
		Args:    exactlyOne("one ALERT"),
		RunE: func(_ *cobra.Command, args []string) error {
			return asked(o, func(ctx context.Context, s api.Lantern) error {
				_, err := api.DoClear.Call(ctx, s, api.ClearQuery{Person: person(), Alert: args[0], Words: words})
				return err
			})
		},
	}
	o.dataFlag(c)
	c.Flags().StringVar(&words, "words", "", "why")
	return c
}

func applyCommand() *cobra.Command {
	o := &places{}
	c := &cobra.Command{
		Use:   "apply",
		Short: "Takes up changed settings now",
		Long: `Apply tells the running service to read its settings folder again. With an error in
it the last good settings go on, and the error is told. It is needed only where the
settings say: apply by hand.`,
		Example: "  dimlantern apply",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			return asked(o, func(ctx context.Context, s api.Lantern) error {
				_, err := api.DoApply.Call(ctx, s, api.None{})
				return err
			})
		},
	}
	o.dataFlag(c)
	return c
}

func demoCommand() *cobra.Command {
	var pace float64
	var seed uint64
	var folder string
	var keep, noScreens bool
	var machines int
	l := &looks{}
	c := &cobra.Command{
		Use:   "demo",
		Short: "The screens on Gullhaven, a simulated harbour that writes its logs live",
		Long: `Demo makes a folder with the logs and the rules of Gullhaven, a made-up tidal
harbour, writes what happened there in the past hours, and then goes on live.`,
		Example: "  dimlantern demo\n  dimlantern demo --pace 20",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			out := cmd.OutOrStdout()
			if pace <= 0 || pace > 1000 {
				return errors.New("--pace goes from just above 0 to 1000 times real time")
			}
			if !noScreens && !term.IsTerminal(int(os.Stdout.Fd())) {
				return errors.New("the demo needs a terminal")
			}
			dir := folder
			if dir == "" {
				d, err := os.MkdirTemp("", "gullhaven-")
				if err != nil {
					return err
				}
				dir = d
				if !keep {
					defer os.RemoveAll(dir)
				}
			}
			dir, err := filepath.Abs(dir)
			if err != nil {
				return err
			}
			g, err := demo.New(demo.Options{Folder: dir, Seed: seed, Pace: pace})
			if err != nil {
				return err
			}
			if machines > 0 {
				if err := fleet.Write(g.Settings()); err != nil {
					return err
				}
			}
			if noScreens {
				if err := g.Past(); err != nil {
					return err
				}
				fmt.Fprintln(out, dir)
				ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
				defer stop()
				control := make(chan error, 1)
				go func() { control <- g.ServeControl(ctx) }()
				err := g.Live(ctx)
				stop()
				return errors.Join(err, <-control)
			}
			opts, err := l.options(screens.Options{Name: "gullhaven", User: userName(), Terminal: terminalName()})
			if err != nil {
				return err
			}
			return runDemo(g, dir, opts, machines, seed)
		},
	}
	l.flags(c)
	c.Flags().Float64Var(&pace, "pace", 1, "how many times faster than real the harbour lives")
	c.Flags().Uint64Var(&seed, "seed", 7, "another number makes another history")
	c.Flags().StringVar(&folder, "folder", "", "write into this folder, and keep it")
	c.Flags().IntVar(&machines, "hosts", 0, "so many simulated hosts report to the harbour, which is their centre then")
	c.Flags().BoolVar(&keep, "keep", false, "keep the folder")
	c.Flags().BoolVar(&noScreens, "no-screens", false, "only write the logs, and print the folder")
	return c
}

// runDemo writes the past, opens a service on it, and goes on live.
func runDemo(g *demo.Harbour, dir string, opts screens.Options, machines int, seed uint64) error {
	if err := g.Past(); err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	control := make(chan error, 1)
	go func() { control <- g.ServeControl(ctx) }()
	s, err := service.Open(service.Options{Settings: g.Settings(), Data: filepath.Join(dir, "data"),
		Where: "only while this window is open"})
	if err != nil {
		return failedIfUsed(err)
	}
	live := make(chan error, 1)
	go func() { live <- g.Live(ctx) }()
	opts.Lantern = s.Desk()
	manned := make(chan error, 1)
	go func() {
		if machines == 0 {
			manned <- nil
			return
		}
		f, err := fleet.Start(ctx, opts.Lantern, filepath.Join(dir, "hosts"), machines, seed, hostAnswer)
		if err == nil {
			f.Live(ctx)
			<-ctx.Done()
			f.Stop()
		}
		if errors.Is(err, context.Canceled) {
			err = nil
		}
		manned <- err
	}()
	err = runInside(s, opts)
	cancel()
	return errors.Join(err, <-live, <-control, <-manned)
}

// hostAnswer answers a question for a host of the demo.
func hostAnswer(ctx context.Context, q []byte, name string, texts []folder.Text, said []sim.Said) ([]byte, error) {
	var files []query.FileLog
	for _, s := range said {
		files = append(files, query.FileLog(s))
	}
	return query.ForHostOver(ctx, q, name, texts, files)
}
