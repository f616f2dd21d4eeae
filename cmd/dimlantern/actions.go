package main

import (
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/store"
)

// printActions prints what people did, and each change of the settings.
func printActions(out io.Writer, s *store.Store, from entry.Instant, asJSON bool) error {
	list, err := s.Actions("", max(from, 0), 1<<63-1, 1<<31)
	if err != nil {
		return err
	}
	for _, a := range list {
		if asJSON {
			type file struct {
				File    string `json:"file"`
				Differs string `json:"differs"`
			}
			line := struct {
				At string `json:"at"`
				store.Action
				Until string `json:"until,omitempty"`
				Files []file `json:"files,omitempty"`
			}{At: a.At.String(), Action: a}
			line.Seq = 0
			if a.Until != 0 {
				line.Until = a.Until.String()
			}
			for _, f := range a.Files {
				line.Files = append(line.Files, file{f.File, strings.Join(api.Diff(f.Was, f.Now), "\n")})
			}
			printJSON(out, line)
			continue
		}
		at := time.Unix(0, int64(a.At)).Format("2006-01-02 15:04:05")
		text := a.What
		if a.Alert != "" {
			text += " " + a.Alert
		}
		if a.Words != "" {
			text += ": " + a.Words
		}
		if a.Until != 0 {
			text += ", until " + time.Unix(0, int64(a.Until)).Format("2006-01-02 15:04")
		}
		if a.Did != "" {
			text += " (" + a.Did + ")"
		}
		who := a.By
		if a.From != "" {
			who += " at " + a.From
		}
		fmt.Fprintf(out, "%s  %s  %s\n", at, shown(who), shown(text))
		for _, f := range a.Files {
			fmt.Fprintf(out, "    %s\n", filepath.Base(f.File))
			for _, l := range api.Diff(f.Was, f.Now) {
				fmt.Fprintln(out, "      "+shown(l))
			}
		}
	}
	return nil
}
