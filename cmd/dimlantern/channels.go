package main

import (
	"context"
	"fmt"
	"io"
	"sort"
	"time"

	"dimlantern/folder"

	"github.com/spf13/cobra"

	"dimlantern/intake/channel"
	"dimlantern/intake/journal"
)

// place is somewhere that channels can be.
type place struct {
	at   string
	must bool // a source, or the user, names it
}

func channelsCommand() *cobra.Command {
	o := &places{}
	var at []string
	var asJSON bool
	c := &cobra.Command{
		Use:   "channels",
		Short: "The event channels that there are, and whether they may be read",
		Long: `Channels lists the event channels of this machine, the system's journal, and the
channels of every place that a source of the settings names: how many events each
holds, how old the newest is, whether it may be read, and its most frequent kinds of
events. With --at it lists those of another channel host, or of a folder.`,
		Example: "  dimlantern channels\n  dimlantern channels --at lock-control.gullhaven:7400 --json",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			out := cmd.OutOrStdout()
			if err := o.clean(); err != nil {
				return err
			}
			ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
			defer cancel()
			well := true
			for _, p := range placesOf(at, o.settings) {
				well = printChannels(out, ctx, p, asJSON) && well
			}
			if !well {
				return failed{"not everything could be reached"}
			}
			return nil
		},
	}
	c.Flags().StringVar(&o.settings, "settings", defaultFolder("CONFIGURATION_DIRECTORY", "XDG_CONFIG_HOME",
		".config", "/etc"), "the settings folder")
	c.Flags().StringArrayVar(&at, "at", nil, "HOST:PORT, a socket or a folder, instead of this machine and the "+
		"settings")
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object a channel")
	return c
}

// placesOf are the places to look at: those that are named, else this machine and
// those of the settings.
func placesOf(at []string, settings string) []place {
	var out []place
	for _, x := range at {
		out = append(out, place{x, true})
	}
	if len(out) > 0 {
		return out
	}
	out = append(out, place{at: "", must: false})
	texts, err := folder.Read(settings)
	if err != nil {
		return out
	}
	s, _ := folder.Check(texts)
	seen := map[string]bool{"": true}
	for _, src := range s.Sources {
		for _, at := range src.At {
			if !src.Journal() && !src.Off && !seen[at] {
				seen[at] = true
				out = append(out, place{at, true})
			}
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].at < out[j].at })
	return out
}

func printChannels(out io.Writer, ctx context.Context, p place, asJSON bool) bool {
	list, err := channel.List(ctx, p.at)
	where := p.at
	if where == "" {
		where = "this machine"
		list = append(list, ofJournal(ctx))
	}
	if !asJSON {
		fmt.Fprintf(out, "%s\n", where)
	}
	if err != nil && p.must {
		fmt.Fprintf(out, "  not reached: %v\n", err)
		return false
	}
	for _, x := range list {
		if asJSON {
			printJSON(out, struct {
				At string `json:"at,omitempty"`
				channel.Info
				Say string `json:"say"`
			}{p.at, x, x.Say()})
			continue
		}
		newest := "no event yet"
		if !x.Newest.IsZero() {
			newest = "newest " + x.Newest.Local().Format("2006-01-02 15:04:05")
		}
		records := ""
		if x.Records > 0 {
			records = fmt.Sprintf("%d events, ", x.Records)
		}
		fmt.Fprintf(out, "  %-34s %s%s; %s\n", shown(x.Name), records, newest, x.Say())
		if x.Mend != "" {
			fmt.Fprintf(out, "  %-34s to mend it: %s\n", "", x.Mend)
		}
		for i, k := range x.Kinds {
			if i == 3 {
				fmt.Fprintf(out, "  %-34s … and %s more\n", "", count(len(x.Kinds)-i, "kind", "kinds"))
				break
			}
			fmt.Fprintf(out, "  %-34s %6d × %s %s  %s\n", "", k.N, k.Event, k.Level, shown(k.Text))
		}
	}
	return true
}

// ofJournal is the system's journal, as a channel.
func ofJournal(ctx context.Context) channel.Info {
	newest, words, mend := journal.Look(ctx, "")
	return channel.Info{Name: journal.Way, Newest: newest, Words: words, Mend: mend}
}
