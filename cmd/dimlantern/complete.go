package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"dimlantern/api"
	"dimlantern/core/lang"
	"dimlantern/folder"
	"dimlantern/service"
)

// version is what was built: of which revision, and when that was written.
func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "of an unknown build"
	}
	set := map[string]string{}
	for _, s := range info.Settings {
		set[s.Key] = s.Value
	}
	out := info.Main.Version
	if rev := set["vcs.revision"]; rev != "" && !strings.Contains(out, rev[:min(12, len(rev))]) {
		out += " " + rev[:min(12, len(rev))]
	}
	if set["vcs.modified"] == "true" && !strings.Contains(out, "dirty") {
		out += ", changed since"
	}
	return fmt.Sprintf("%s (%s, %s/%s)", out, info.GoVersion, set["GOOS"], set["GOARCH"])
}

// named is a completion, with what stands beside it in the shell.
func named(name, about string) string {
	if about == "" {
		return name
	}
	return name + "\t" + about
}

// settingsFor are the settings that a command line names, or the user's own; nil where they cannot be
// read. What is wrong in them is passed over: it is only about names.
func settingsFor(cmd *cobra.Command) *lang.Settings {
	path := ""
	for _, name := range []string{"settings", "rules"} {
		if f := cmd.Flags().Lookup(name); f != nil && f.Value.String() != "" {
			path = f.Value.String()
		}
	}
	if path == "" {
		o := &places{}
		o.flags(&cobra.Command{})
		path = o.settings
	}
	texts, err := folder.Read(path)
	if err != nil && len(texts) == 0 {
		return nil
	}
	s, _ := folder.Check(texts)
	return s
}

type completer = func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective)

// ofSettings completes names out of the settings.
func ofSettings(names func(*lang.Settings) []string) completer {
	return func(cmd *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
		s := settingsFor(cmd)
		if s == nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		out := slices.DeleteFunc(names(s), func(n string) bool { return !strings.HasPrefix(n, typed) })
		slices.Sort(out)
		return out, cobra.ShellCompDirectiveNoFileComp
	}
}

var (
	ruleNames = ofSettings(func(s *lang.Settings) (out []string) {
		for _, r := range s.Rules {
			out = append(out, named(r.Name, r.Note))
		}
		return out
	})
	sourceNames = ofSettings(func(s *lang.Settings) (out []string) {
		for _, x := range s.Sources {
			out = append(out, named(x.Name, x.Where()))
		}
		return out
	})
	askNames = ofSettings(func(s *lang.Settings) (out []string) {
		for _, q := range s.Asks {
			out = append(out, named(q.Name, q.Note))
		}
		return out
	})
	reportNames = ofSettings(func(s *lang.Settings) (out []string) {
		for _, r := range s.Reports {
			out = append(out, named(r.Name, r.Title))
		}
		return out
	})
	contactNames = ofSettings(func(s *lang.Settings) (out []string) {
		for _, c := range s.Contacts {
			out = append(out, named(c.Name, strings.Join(c.WayNames(), ", ")))
		}
		return out
	})
)

// alertNames completes open alerts, of the service of the data folder.
func alertNames(cmd *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
	data := ""
	if f := cmd.Flags().Lookup("data"); f != nil {
		data, _ = filepath.Abs(f.Value.String())
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	v, err := api.AskView.Call(ctx, service.Join(data), api.ViewQuery{Column: time.Minute, Columns: 1})
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []string
	for _, x := range v.Open {
		if strings.HasPrefix(x.Alert, typed) {
			out = append(out, named(x.Alert, strings.Join(append([]string{x.Rule}, x.Key...), " ")))
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// completions lets shells complete what commands take: names of rules, sources, alerts and contacts, and
// the few words that a flag can have.
func completions(root *cobra.Command) {
	words := func(list ...string) completer {
		return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return list, cobra.ShellCompDirectiveNoFileComp
		}
	}
	args := map[string]completer{"take": alertNames, "clear": alertNames, "note": alertNames, "hush": alertNames,
		"reread": sourceNames, "ask": askNames, "report": reportNames}
	flags := map[string]completer{"rule": ruleNames, "if": ruleNames, "as": sourceNames, "on": sourceNames,
		"test": contactNames, "severity": words("notice", "warning", "error", "critical"), "change": words(changes...),
		"marks": words("plain", "fine"), "ground": words("dark", "light")}
	for _, c := range root.Commands() {
		if c.Name() == "report" {
			c.RegisterFlagCompletionFunc("as", words(lang.ReportForms...)) // it comes before the sources
			c.RegisterFlagCompletionFunc("covers", words("today", "yesterday", "last week", "last month", "24h", "7d"))
		}
		if f := args[c.Name()]; f != nil {
			c.ValidArgsFunction = f
		}
		for name, f := range flags {
			if c.Flags().Lookup(name) != nil {
				c.RegisterFlagCompletionFunc(name, f) // fails only where there is one already
			}
		}
	}
}

// manCommand writes the manual's pages, which are made of the same texts as the help.
func manCommand() *cobra.Command {
	return &cobra.Command{
		Use:    "man FOLDER",
		Short:  "Writes the manual's pages into a folder",
		Hidden: true,
		Args:   exactlyOne("a FOLDER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return err
			}
			root := cmd.Root()
			root.DisableAutoGenTag = true
			for _, c := range append(root.Commands(), root) { // not those of who writes the pages
				for name, value := range map[string]string{"data": "~/.local/state/dimlantern",
					"settings": "~/.config/dimlantern"} {
					if f := c.Flags().Lookup(name); f != nil && f.DefValue != "" {
						f.DefValue = value
					}
				}
			}
			written := time.Unix(0, 0) // the same pages are the same bytes
			return doc.GenManTree(root, &doc.GenManHeader{Title: "DIMLANTERN", Section: "1", Source: "Dim Lantern",
				Manual: "Dim Lantern", Date: &written}, args[0])
		},
	}
}
