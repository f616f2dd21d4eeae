package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"dimlantern/api"
	"dimlantern/core/ask"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/folder"
	"dimlantern/intake"
	"dimlantern/intake/reread"
	"dimlantern/query"
	"dimlantern/service"
	"dimlantern/store"
	"dimlantern/workbench"
)

// askOptions are what the command ask is told.
type askOptions struct {
	places
	as             string
	asJSON, asCSV  bool
	svg, pdf       string
	ground         string
	given, hasData bool // --settings was given, and --data
}

func askCommand() *cobra.Command {
	o := &askOptions{}
	c := &cobra.Command{
		Use:   "ask NAME|'QUESTION' [FILE…]",
		Short: "The answer to a question to what was logged",
		Long: `Ask answers a question: one that is kept in the settings, by its name, or one that is
written out in one argument. It reads the files where they lie, rotated and compressed copies too, and what
is kept of channels, ports and pipes: those of the sources of the settings, or the FILEs, which are read as
the source of --as, or as what detect finds. on alerts asks about the alerts that were. Where nothing is
said of the time, it is about the last 24 hours.`,
		Example: `  dimlantern ask 'where "open refused" show count per gate every 1h over 24h' gates.log
  dimlantern ask 'on gates show p95(took), count per gate over last week beside before' --csv
  dimlantern ask alerts-by-rule --json`,
		Args: atLeast("a question"),
		RunE: func(cmd *cobra.Command, args []string) error {
			o.given, o.hasData = cmd.Flags().Changed("settings"), cmd.Flags().Changed("data")
			return o.run(cmd.Context(), cmd.OutOrStdout(), args[0], args[1:])
		},
	}
	o.flags(c)
	c.Flags().StringVar(&o.as, "as", "", "the source of the settings that the files are read as")
	c.Flags().BoolVar(&o.asJSON, "json", false, "one JSON object a row")
	c.Flags().BoolVar(&o.asCSV, "csv", false, "comma-separated values with a header line")
	c.Flags().StringVar(&o.svg, "svg", "", "draw the answer into this SVG file, with its numbers as CSV beside it")
	c.Flags().StringVar(&o.pdf, "pdf", "", "draw the answer into this PDF file, with its numbers as CSV beside it")
	c.Flags().StringVar(&o.ground, "ground", "light", "of a picture: light or dark")
	c.MarkFlagsMutuallyExclusive("json", "csv")
	return c
}

// mostMemory is how much memory an answer is made in, where that suffices, in bytes.
const mostMemory = 240 << 20

func (o *askOptions) run(ctx context.Context, out io.Writer, text string, files []string) error {
	x, zone, err := o.asking(text, files)
	if err != nil {
		return err
	}
	if x.Store != nil {
		defer x.Store.Close()
	}
	show := progress()
	if show != nil {
		x.Each = func(_ *ask.Answer, read, _ int64) { show(read) }
	}
	debug.SetMemoryLimit(mostMemory)
	a, err := x.Answer(ctx)
	clearProgress()
	if err != nil {
		return err
	}
	switch {
	case a.Dropped > 0 && (o.asJSON || o.asCSV) && len(a.Untimed) == 0 && x.HasPieces():
		err = o.pieces(ctx, out, x, a)
	case o.asJSON:
		err = a.WriteJSON(jsonOut(out))
	case o.asCSV:
		err = a.WriteCSV(out)
	default:
		printAnswer(out, a, zone)
	}
	if err != nil {
		return fmt.Errorf("the answer cannot be written: %w", reason(err))
	}
	if o.asJSON || o.asCSV {
		err = a.WriteBasis(os.Stderr)
	} else {
		for _, line := range a.Rests(zone) {
			fmt.Fprintln(os.Stderr, shown(line))
		}
	}
	if err := o.draw(a, zone); err != nil {
		return err
	}
	if len(a.Unread) > 0 {
		return failed{english.Plural(len(a.Unread), "file", "") + " could not be read"}
	}
	return err
}

// pieces writes all entries of an answer that has no room for them at once.
func (o *askOptions) pieces(ctx context.Context, out io.Writer, x *query.Asking, a *query.Asked) error {
	a.Entries = nil
	var fields []string
	if o.asCSV {
		_, err := x.Pieces(ctx, func(b *query.Asked) error {
			fields = b.FieldNames(fields)
			return nil
		})
		if err != nil {
			return err
		}
		if err := a.WriteTable(out, fields, true); err != nil {
			return err
		}
	}
	left, err := x.Pieces(ctx, func(b *query.Asked) error {
		if o.asCSV {
			return b.WriteTable(out, fields, false)
		}
		return b.WriteJSON(jsonOut(out))
	})
	a.Dropped = left
	return err
}

// asking is what is asked of what.
func (o *askOptions) asking(text string, files []string) (*query.Asking, *time.Location, error) {
	for i, f := range files {
		if f == "-" {
			return nil, nil, errors.New("ask reads files: what comes by a pipe can be written into one first")
		}
		info, err := os.Stat(f)
		if err != nil {
			return nil, nil, fmt.Errorf("%s cannot be read: %w", f, reason(err))
		}
		if info.IsDir() {
			return nil, nil, fmt.Errorf("%s is a folder: name the files in it", f)
		}
		files[i] = absolute(f)
	}
	texts, err := o.texts(text, files)
	if err != nil {
		return nil, nil, err
	}
	settings, q, ds := query.Typed(texts, text)
	for _, d := range ds {
		if d.Weight != lang.Note {
			fmt.Fprintln(os.Stderr, d)
		}
	}
	if q == nil {
		if name := strings.TrimSpace(text); lang.IsName(name) {
			var names []string
			for _, k := range settings.Asks {
				names = append(names, k.Name)
			}
			return nil, nil, fmt.Errorf("there is no question %s; there are: %s", name, strings.Join(names, ", "))
		}
		return nil, nil, errors.New("the question cannot be answered as it is written")
	}
	if err := withSecret(settings); err != nil {
		return nil, nil, err
	}
	zone := cmp.Or(q.Zone, time.Local)
	x := &query.Asking{Settings: settings, Notes: o.notes()}
	host, _ := os.Hostname()
	m := ask.Moment{Lamp: entry.Of(time.Now()), Zone: zone, Alone: len(files) > 0, Reporter: host}
	if x.Plan, err = ask.New(q, m); err != nil {
		return nil, nil, err
	}
	if len(files) == 0 {
		if x.Others = query.OthersOf(settings, x.Plan, m, o.askHosts); x.Others != nil {
			x.Others.KeptThere = query.KeptThere(o.data)
		}
	}
	if st, err := store.OpenToRead(o.data); err == nil && len(files) == 0 {
		x.Store = st
	} else if q.Alerts && err != nil {
		return nil, nil, err
	}
	if !q.Alerts {
		if x.Logs, err = o.logs(settings, q, files); err != nil {
			return nil, nil, err
		}
	}
	return x, zone, nil
}

// notes are where it is kept which time lies where in files: with the data, where there is some, else
// among what can be had again.
func (o *askOptions) notes() *reread.Notes {
	if _, err := os.Stat(filepath.Join(o.data, "lantern.db")); err == nil || o.hasData {
		return reread.NewNotes(filepath.Join(o.data, service.NotesFolder))
	}
	cache, err := os.UserCacheDir()
	if err != nil {
		return reread.NewNotes("")
	}
	return reread.NewNotes(filepath.Join(cache, "dimlantern", service.NotesFolder))
}

// texts are the settings with which the question is asked: those of the user, or the layouts of files
// alone.
func (o *askOptions) texts(text string, files []string) ([]folder.Text, error) {
	if len(files) == 0 || o.as != "" || o.given {
		texts, err := folder.Read(o.settings)
		if err != nil && (len(texts) == 0 && o.given || len(files) > 0) {
			return nil, err
		}
		_, ds := folder.CheckErrors(texts)
		return texts, refuse(ds)
	}
	formats, err := workbench.FormatsOf(files)
	if err != nil {
		return nil, err
	}
	name := "log"
	for _, c := range lang.ParseQuestion(lang.Typed, text).TypedClauses() {
		if c.Word == "on" && len(c.Words) > 0 && lang.IsName(c.Words[0]) {
			name = c.Words[0]
		}
	}
	var texts []folder.Text
	for i, f := range formats {
		called := name
		if i > 0 {
			called = fmt.Sprintf("%s-%d", name, i+1)
		}
		fmt.Fprintf(os.Stderr, "dimlantern: %s\n", f.Proposals[0].Describe())
		texts = append(
			texts,
			folder.Text{Name: "detected " + called, Body: workbench.Proposed(&f.Proposals[0], called, f.Files)},
		)
	}
	if lang.IsName(strings.TrimSpace(text)) { // one that is kept
		if own, err := folder.Read(o.settings); err == nil {
			for _, t := range own {
				if body := lang.Only(t.Body, "ask", "kind"); body != "" {
					texts = append(texts, folder.Text{Name: t.Name, Body: body})
				}
			}
		}
	}
	return texts, nil
}

// logs are the logs that the question is asked of.
func (o *askOptions) logs(settings *lang.Settings, q *lang.Question, files []string) ([]reread.Log, error) {
	host, _ := os.Hostname()
	var out []reread.Log
	add := func(src *lang.Source, paths []string, alone bool) {
		for _, g := range intake.Grouped(paths) {
			log := reread.Log{Series: g.Name, Source: src}
			log.Name, log.Host = trial.OriginOf(src, g.Name, host)
			if !alone {
				out = append(out, log)
				continue
			}
			for _, f := range g.Files {
				log.Only = f
				out = append(out, log)
			}
		}
	}
	sources := settings.SourcesOf(q)
	if len(files) == 0 {
		find := &findOptions{places: o.places}
		for _, src := range sources {
			if len(src.For) > 0 {
				continue // its logs are on hosts
			}
			add(src, find.filesOf(src), false)
		}
		return out, nil
	}
	of := map[*lang.Source][]string{}
	for _, f := range files {
		fits, err := sourcesFor(settings, o.as, f)
		if err != nil {
			return nil, err
		}
		for _, src := range fits {
			if (slices.Contains(sources, src) || o.as != "") && !slices.Contains(of[src], f) {
				of[src] = append(of[src], f)
			}
		}
	}
	for _, src := range settings.Sources {
		add(src, of[src], true)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("none of the files is of a source that the question is on: %s", q)
	}
	return out, nil
}

// draw draws the answer where that is wanted, with the numbers as CSV beside it.
func (o *askOptions) draw(a *query.Asked, zone *time.Location) error {
	for form, path := range map[string]string{"svg": o.svg, "pdf": o.pdf} {
		if path == "" {
			continue
		}
		var b, table strings.Builder
		if err := a.Draw(&b, form, a.Plan.Q.Name, o.ground == "dark", zone); err != nil {
			return err
		}
		if err := a.WriteCSV(&table); err != nil {
			return err
		}
		beside := strings.TrimSuffix(path, filepath.Ext(path)) + ".csv"
		for name, body := range map[string]string{path: b.String(), beside: table.String()} {
			if err := folder.Replace(name, body); err != nil {
				return err
			}
		}
	}
	return nil
}

// printAnswer prints an answer as a table, with bars where there is room for them.
func printAnswer(out io.Writer, a *query.Asked, zone *time.Location) {
	width := 0
	if f, ok := out.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		width, _, _ = term.GetSize(int(f.Fd()))
	}
	t := a.Table(zone, 0)
	if a.Plan.Columns()[0] == "entries" {
		for _, cells := range t.Rows {
			for i := range cells {
				cells[i] = shown(cells[i])
			}
			fmt.Fprintln(out, strings.Join(cells, "  "))
		}
		return
	}
	head, right, most := t.Head, t.Right, 0.0
	for _, f := range t.Bars {
		most = math.Max(most, f)
	}
	for _, cells := range t.Rows {
		for i := range cells {
			cells[i] = shown(cells[i])
		}
	}
	table, bars := append([][]string{head}, t.Rows...), append([]float64{0}, t.Bars...)
	widths := make([]int, len(head))
	for _, cells := range table {
		for i, c := range cells {
			widths[i] = max(widths[i], min(ansi.StringWidth(c), 60))
		}
	}
	total := 2 * len(head)
	for _, w := range widths {
		total += w
	}
	room := 0
	if width > 0 {
		room = min(width-total-1, 40)
	}
	for k, cells := range table {
		var b strings.Builder
		for i, c := range cells {
			if i > 0 {
				b.WriteString("  ")
			}
			c = ansi.Truncate(c, 60, "…")
			pad := strings.Repeat(" ", widths[i]-ansi.StringWidth(c))
			if right[i] {
				b.WriteString(pad + c)
			} else {
				b.WriteString(c + pad)
			}
		}
		if room >= 8 && most > 0 && k > 0 {
			b.WriteString("  " + bar(bars[k]/most*float64(room)))
		}
		fmt.Fprintln(out, strings.TrimRight(b.String(), " "))
	}
}

// bar is a bar of so many cells, drawn in eighths.
func bar(cells float64) string {
	eighths := int(math.Round(cells * 8))
	s := strings.Repeat("█", max(eighths/8, 0))
	if r := eighths % 8; r > 0 {
		s += string([]rune("▏▎▍▌▋▊▉")[r-1])
	}
	return s
}

func asksCommand() *cobra.Command {
	o := &askOptions{}
	var asJSON bool
	c := &cobra.Command{
		Use:   "asks",
		Short: "The questions that are kept, and what they mean",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			texts, err := folder.Read(o.settings)
			if err != nil && cmd.Flags().Changed("settings") {
				return err
			}
			settings, ds := folder.Check(texts)
			if err := refuse(ds); err != nil {
				return err
			}
			out := cmd.OutOrStdout()
			for i, q := range settings.Asks {
				file := q.Pos.File
				if q.BuiltIn() {
					file = ""
				}
				if asJSON {
					x := map[string]any{"name": q.Name, "question": q.String(), "words": q.Words(), "off": q.Off}
					if file != "" {
						x["file"], x["line"] = file, q.Pos.Line
					}
					if q.Note != "" {
						x["note"] = q.Note
					}
					printJSON(out, x)
					continue
				}
				if i > 0 {
					fmt.Fprintln(out)
				}
				where := cmp.Or(file, "there from the start")
				if q.Off {
					where += ", off"
				}
				fmt.Fprintf(out, "%s  (%s)\n", q.Name, where)
				for _, w := range q.Words() {
					fmt.Fprintln(out, "  "+w)
				}
			}
			return nil
		},
	}
	o.flags(c)
	c.Flags().BoolVar(&asJSON, "json", false, "one JSON object a question")
	return c
}

// askHosts asks hosts by the service that runs here; it is a query.Remote.
func (o *askOptions) askHosts(ctx context.Context, groups []string, q []byte,
	got func(name string, answer []byte, err error)) []string {
	all, err := api.AskOthers.Call(ctx, service.Join(o.data), api.OthersQuery{Groups: groups, Question: q})
	if err != nil {
		name := "the hosts of " + strings.Join(groups, ", ")
		got(name, nil, fmt.Errorf("the centre's service cannot ask them: %w", err))
		return []string{name}
	}
	for _, a := range all.Answers {
		var bad error
		if a.Problem != "" {
			bad = errors.New(a.Problem)
		}
		got(a.Name, a.Answer, bad)
	}
	return all.Names
}
