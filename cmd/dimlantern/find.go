package main

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/spf13/cobra"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/folder"
	"dimlantern/intake"
	"dimlantern/intake/spool"
	"dimlantern/query"
	"dimlantern/workbench"
)

// findOptions are what the command find is told.
type findOptions struct {
	places
	on             string
	from, to       string
	most           int
	asJSON         bool
	earliest, last entry.Instant
}

func findCommand() *cobra.Command {
	var o findOptions
	c := &cobra.Command{
		Use:   "find EXPR [FILE…]",
		Short: "Entries for which an expression holds, the newest first",
		Long: `Find looks through logs, and prints the entries for which an expression of the language holds,
or that have all of some words, the newest first. It looks into the FILEs, whose layout it finds
as detect does; else into all that the sources of the settings have, rotated and compressed
copies among it.`,
		Example: "  dimlantern find 'status >= 500 and path ~ /tickets/' access.log\n" +
			"  dimlantern find 'pressure low' --on pump-logs --from 2026-11-24T00:00:00Z --json",
		Args: atLeast("an EXPR"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return o.run(cmd, args[0], args[1:])
		},
	}
	o.flags(c)
	c.Flags().StringVar(&o.on, "on", "", "only entries of this source of the settings")
	c.Flags().StringVar(&o.from, "from", "", "only entries from this time on: "+entry.Times)
	c.Flags().StringVar(&o.to, "to", "", "only entries before this time")
	c.Flags().IntVar(&o.most, "most", 1_000_000, "no more than so many")
	c.Flags().BoolVar(&o.asJSON, "json", false, "one JSON object an entry")
	return c
}

func (o *findOptions) run(cmd *cobra.Command, typed string, files []string) error {
	var err error
	if o.earliest, err = bound("--from", o.from); err != nil {
		return err
	}
	if o.last, err = bound("--to", o.to); err != nil {
		return err
	}
	groups, err := o.logs(files)
	if err != nil {
		return err
	}
	out := bufio.NewWriterSize(cmd.OutOrStdout(), 64<<10)
	defer out.Flush()
	var all []api.FoundEntry
	looked, read := int64(0), int64(0)
	show := progress()
	for _, g := range groups {
		sought, err := query.Seek(g.texts, g.sources, typed)
		if err != nil {
			return err
		}
		if err := withSecret(sought.Settings); err != nil {
			return err
		}
		q := api.FindQuery{From: o.earliest, At: o.last, Lines: o.most}
		for {
			f, err := query.FindIn(cmd.Context(), sought, g.logs, q, 300*time.Millisecond)
			if err != nil {
				return err
			}
			all = append(all, f.Lines...)
			looked += f.Looked
			for _, w := range f.Unread {
				fmt.Fprintln(os.Stderr, "dimlantern: "+w)
			}
			if q.Go = f.Go; f.Go == nil {
				break
			}
			if show != nil {
				show(read + f.Go.Of - f.Left)
			}
			if len(groups) == 1 { // what is no newer than what is left to look at can be told
				n := 0
				for n < len(all) && all[n].At > f.Until {
					n++
				}
				o.print(out, all[:n])
				all = all[n:]
			}
		}
	}
	clearProgress()
	slices.SortStableFunc(all, func(a, b api.FoundEntry) int { return cmp.Compare(b.At, a.At) })
	o.print(out, all[:min(len(all), o.most)])
	fmt.Fprintf(os.Stderr, "%s looked at\n", count(int(looked), "entry", "entries"))
	return nil
}

// print prints entries that were found.
func (o *findOptions) print(out *bufio.Writer, list []api.FoundEntry) {
	for _, e := range list {
		if o.asJSON {
			fields := map[string]string{}
			for _, f := range e.Fields {
				if f.Value != "" {
					fields[f.Name] = f.Value
				}
			}
			x := map[string]any{"at": nil, "source": e.Source, "origin": e.Origin, "offset": e.Offset, "fits": e.Fits,
				"fields": fields, "text": e.Raw}
			if e.At != entry.None {
				x["at"] = e.At.String()
			}
			printJSON(out, x)
			continue
		}
		at := "-"
		if e.At != entry.None {
			at = local(e.At)
		}
		fmt.Fprintf(out, "%s  %s  %s\n", at, shown(e.Origin), shown(e.Raw))
	}
}

// soughtIn are logs whose sources stand in the same settings.
type soughtIn struct {
	texts   []folder.Text
	sources []string // nil is all
	logs    []query.Log
}

// logs are the logs in which is looked: the files that are given, by their formats, or what
// the sources of the settings have.
func (o *findOptions) logs(files []string) ([]soughtIn, error) {
	host, _ := os.Hostname()
	if len(files) > 0 && o.on == "" {
		for i, f := range files {
			if f == "-" {
				return nil, errors.New("find reads files; of standard input: dimlantern fields --where EXPR -")
			}
			if _, err := os.Stat(f); err != nil {
				return nil, fmt.Errorf("%s cannot be read: %w", f, reason(err))
			}
			files[i] = absolute(f)
		}
		formats, err := workbench.FormatsOf(files)
		if err != nil {
			return nil, err
		}
		var out []soughtIn
		for _, f := range formats {
			text := workbench.Proposed(&f.Proposals[0], "log", f.Files)
			texts := []folder.Text{{Name: "detected", Body: text}}
			settings, ds := folder.Check(texts)
			if err := refuse(ds); err != nil {
				return nil, err
			}
			g := soughtIn{texts: texts, sources: []string{"log"}}
			for _, path := range f.Files {
				g.logs = append(g.logs, query.Log{Name: host + ":" + path, Series: path, Host: host, Only: path,
					Source: settings.Source("log")})
			}
			out = append(out, g)
		}
		return out, nil
	}
	texts, err := folder.Read(o.settings)
	if err != nil {
		return nil, err
	}
	settings, ds := folder.Check(texts)
	if err := refuse(ds); err != nil {
		return nil, err
	}
	g := soughtIn{texts: texts}
	for _, src := range settings.Sources {
		if o.on != "" && src.Name != o.on {
			continue
		}
		if o.on != "" {
			g.sources = []string{src.Name}
		}
		paths := files
		if len(files) == 0 {
			paths = o.filesOf(src)
		}
		for i, p := range paths {
			paths[i] = absolute(p)
		}
		for _, x := range intake.Grouped(paths) {
			log := query.Log{Series: x.Name, Source: src}
			log.Name, log.Host = trial.OriginOf(src, x.Name, host)
			if len(files) > 0 {
				log.Only = x.Files[0]
			}
			g.logs = append(g.logs, log)
		}
	}
	if o.on != "" && g.sources == nil {
		return nil, fmt.Errorf("%s has no source %s", o.settings, o.on)
	}
	if len(g.logs) == 0 {
		return nil, failed{"no file of the sources in " + o.settings + " is there: give a FILE"}
	}
	return []soughtIn{g}, nil
}

// filesOf are the files that a source has now: those that its globs fit, or in which its
// entries are kept.
func (o *findOptions) filesOf(src *lang.Source) []string {
	globs := src.Files
	if src.Kept() {
		globs = spool.Open(o.data).Globs(src.Name)
	}
	var out []string
	for _, g := range globs {
		list, _ := doublestar.FilepathGlob(g, doublestar.WithFilesOnly())
		for _, p := range list {
			if (src.Kept() || intake.Fits(src, p)) && !slices.Contains(out, p) {
				out = append(out, p)
			}
		}
	}
	return out
}
