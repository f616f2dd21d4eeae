package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
	"dimlantern/folder"
	"dimlantern/intake"
	"dimlantern/query"
	"dimlantern/workbench"
)

type fieldsOptions struct {
	rules, as, layout string
	values            bool
	only              []string
	asJSON, asCSV     bool
	misfits           bool
	where, from, to   string

	filter           *fieldFilter
	given            []string // fields that the source gives
	earliest, latest entry.Instant
}

func fieldsCommand() *cobra.Command {
	o := &fieldsOptions{}
	c := &cobra.Command{
		Use:   "fields [--rules PATH --as SOURCE | --layout TEXT] FILE…",
		Short: "The entries of a log, divided into their fields",
		Long: `Fields divides the entries of logs, and prints them as a table, as CSV or as JSON
lines. The layout is that of a source of the rules; or what --layout says: the name
of one that is built in, or clauses as they stand in a layout; or what detect finds.
With --misfits it prints only what does not fit, and why, and how many of each; with --where
only entries for which an expression holds. What the source does not take (only) is left
out. - is standard input.`,
		Example: `  dimlantern fields --rules pumps.lantern --as pump-logs pump-03.log
  dimlantern fields --layout combined --csv access.log.2.gz
  dimlantern fields --layout 'delimited ";" columns at, bay, temp  type temp decimal' cold.log
  dimlantern fields --misfits pump-03.log`,
		Args: atLeast("a FILE"),
		RunE: func(cmd *cobra.Command, args []string) error { return printFields(cmd.OutOrStdout(), o, args) },
	}
	c.Flags().StringVar(&o.rules, "rules", "", "a settings file, or a folder of them")
	c.Flags().StringVar(&o.as, "as", "", "the source that the files are read as")
	c.Flags().StringVar(&o.layout, "layout", "", "the name of a built-in layout, or the clauses of one")
	c.Flags().StringSliceVar(&o.only, "only", nil, "no more than these fields")
	c.Flags().BoolVar(&o.asJSON, "json", false, "one JSON object an entry")
	c.Flags().BoolVar(&o.asCSV, "csv", false, "comma-separated values with a header line")
	c.Flags().BoolVar(&o.values, "values", false, "of each field its type, how many entries have it, and its "+
		"commonest values")
	c.Flags().BoolVar(&o.misfits, "misfits", false, "only what does not fit, with the reasons")
	c.Flags().StringVar(&o.where, "where", "", "only entries for which this expression holds, such as level >= warning")
	c.Flags().StringVar(&o.from, "from", "", "only entries from this time on: "+entry.Times)
	c.Flags().StringVar(&o.to, "to", "", "only entries before this time")
	c.MarkFlagsMutuallyExclusive("json", "csv")
	c.MarkFlagsMutuallyExclusive("rules", "layout")
	return c
}

// planOf is how the entries of files are divided.
func (o *fieldsOptions) planOf(files []string) (*match.Plan, *lang.Layout, error) {
	settings, src := &lang.Settings{}, &lang.Source{Name: "log"}
	var texts []folder.Text
	switch {
	case o.rules != "":
		var err error
		if texts, err = folder.Read(o.rules); err != nil {
			return nil, nil, err
		}
		if settings, err = loadRules(o.rules); err != nil {
			return nil, nil, err
		}
		var paths []string
		for _, f := range files {
			paths = append(paths, absolute(f))
		}
		list, err := sourcesFor(settings, o.as, paths...)
		if err != nil {
			return nil, nil, err
		}
		if len(list) == 0 || list[0] == nil {
			return nil, nil, fmt.Errorf("no source of %s has files that fit %s: say which with --as SOURCE", o.rules,
				files[0])
		}
		src = list[0]
	case o.as != "":
		return nil, nil, fmt.Errorf("--as %s needs --rules PATH, where the source stands", o.as)
	case o.layout != "":
		var err error
		var body string
		if settings, src.Layout, body, err = layoutGiven(o.layout); err != nil {
			return nil, nil, err
		}
		texts = []folder.Text{{Name: "--layout", Body: body + "source log {\n  files \"/log\"\n  layout " +
			src.Layout + "\n}\n"}}
	default:
		formats, err := workbench.FormatsOf(files)
		if err != nil {
			return nil, nil, err
		}
		p := formats[0].Proposals[0]
		fmt.Fprintln(os.Stderr, "dimlantern: "+p.Describe())
		if len(formats) > 1 {
			fmt.Fprintf(os.Stderr, "dimlantern: %s are written otherwise: give files of one format at a time\n",
				strings.Join(formats[1].Files, ", "))
		}
		texts = []folder.Text{{Name: "detected", Body: workbench.Proposed(&p, "log", []string{absolute(files[0])})}}
		var ds []lang.Diagnostic
		if settings, ds = folder.Check(texts); lang.Errors(ds) {
			return nil, nil, refuse(ds)
		}
		src = settings.Sources[0]
	}
	if err := withSecret(settings); err != nil {
		return nil, nil, err
	}
	if err := o.filterOf(texts, src); err != nil {
		return nil, nil, err
	}
	return match.NewPlan(settings, src, nil, time.Local), settings.Layout(src.LayoutName()), nil
}

// layoutGiven reads what --layout says.
func layoutGiven(text string) (settings *lang.Settings, called, body string, err error) {
	name := strings.TrimSpace(text)
	if empty := (&lang.Settings{}); name == "plain" || empty.Layout(name) != nil {
		return empty, name, "", nil
	}
	body = text
	if !strings.HasPrefix(name, "layout ") || !strings.Contains(name, "{") {
		body = "layout given {\n" + lang.Clauses("layout", text) + "\n}\n"
	}
	settings, ds := folder.Check([]folder.Text{{Name: "--layout", Body: body}})
	if err := refuse(ds); err != nil {
		return nil, "", "", err
	}
	if len(settings.Layouts) == 0 {
		return nil, "", "", fmt.Errorf("--layout %s is no layout: give the name of one that is built in, or clauses "+
			"such as: json, or pattern /…/", text)
	}
	return settings, settings.Layouts[0].Name, body, nil
}

// written is what became of an entry.
type written struct {
	layout.Division
	at   entry.Instant // its own time, or that of the entry before
	text string        // what may be shown of an entry with masks
}

func printFields(to io.Writer, o *fieldsOptions, files []string) error {
	var err error
	if o.earliest, err = bound("--from", o.from); err != nil {
		return err
	}
	if o.latest, err = bound("--to", o.to); err != nil {
		return err
	}
	files, done, err := stdinAside(files)
	if err != nil {
		return err
	}
	defer done()
	plan, l, err := o.planOf(files)
	if err != nil {
		return err
	}
	if o.asJSON {
		to = jsonOut(to)
	}
	if o.only != nil && o.filter == nil {
		plan.Layout.Narrow(o.only)
	}
	r := &fieldReader{
		options: o, plan: plan, printer: o.printer(l), out: bufio.NewWriterSize(to, 64<<10), reasons: newReasons(),
		headed: plan.Layout.Headed(), masked: plan.Layout.Masked(),
		texted: l != nil && !l.Divides() && !o.asJSON && (o.only == nil || slices.Contains(o.only, "text")),
	}
	r.host, _ = os.Hostname()
	debug.SetGCPercent(400) // entries are forgotten as soon as they are printed
	for _, path := range files {
		if err := r.read(path); err != nil {
			return err
		}
	}
	if err := r.printer.end(r.out); err != nil {
		return err
	}
	if err := r.out.Flush(); err != nil {
		return fmt.Errorf("the result cannot be written: %w", err)
	}
	r.reasons.tell()
	return nil
}

// printer is the form in which entries are written; l is nil where the layout is a built-in one.
func (o *fieldsOptions) printer(l *lang.Layout) fieldPrinter {
	switch {
	case o.values:
		return &valueFields{counter: layout.NewCounter(), asJSON: o.asJSON, only: o.only}
	case o.asJSON:
		return &jsonFields{only: o.only}
	case o.asCSV:
		return &csvFields{columns: o.columns(l), known: o.only != nil || l != nil && !l.Open()}
	}
	columns := slices.DeleteFunc(o.columns(l), func(f string) bool { // its own column has it
		return o.only == nil && l != nil && l.Time != nil && slices.Contains(l.Time.Fields, f)
	})
	return &tableFields{columns: columns, narrow: o.misfits, open: o.only == nil && (l == nil || l.Open())}
}

// fieldReader divides files, entry by entry, and has the entries printed that are asked for.
type fieldReader struct {
	options *fieldsOptions
	plan    *match.Plan
	printer fieldPrinter
	out     *bufio.Writer
	reasons *reasons
	host    string

	headed bool // a line of the file may name its columns
	masked bool // some values may not be shown
	texted bool // the layout divides nothing: the whole entry is its text

	// Of the file that is read:
	path       string
	divider    *layout.Divider
	given      []entry.Field // what the source says of each entry
	near, last entry.Instant // the time to complete one without a year from; the last that was read
	w          written
}

// read divides a file.
func (r *fieldReader) read(path string) error {
	r.path, r.near, r.last = path, entry.Of(time.Now()), entry.None
	if info, err := os.Stat(path); err == nil {
		r.near = entry.Of(info.ModTime())
	}
	o := r.options
	r.divider = &layout.Divider{Layout: r.plan.Layout, Reuse: (o.asCSV || o.asJSON) && !o.values}
	r.given = r.plan.Constants(absolute(path), r.host)
	_, err := intake.EachBlock(path, r.plan, func(text []byte) error {
		var failure error
		r.plan.All(text, func(line []byte) {
			if err := r.entry(line); failure == nil {
				failure = err
			}
		})
		return failure
	})
	return err
}

// entry divides one, and prints it where it is asked for.
func (r *fieldReader) entry(line []byte) error {
	if r.headed && r.divider.See(line) {
		return nil
	}
	w := &r.w
	raw := r.plan.DivideInto(&w.Division, r.divider, line, r.near)
	if w.Timed {
		r.last, r.near = w.At, w.At
	}
	w.Fields = match.Given(w.Fields, r.given)
	if !r.options.takes(r.plan, &w.Division, raw, r.last, r.host, r.path) {
		return nil
	}
	if r.reasons.total++; !w.Fits || len(w.Misfits) > 0 {
		w.Misfits = r.divider.Why(&w.Division, raw)
		r.reasons.add(&w.Division, raw)
	} else if r.options.misfits {
		return nil
	}
	if r.masked {
		misfits := w.Misfits
		w.Division, w.text = r.plan.Shown(r.divider, line, r.near)
		w.Misfits = misfits
		w.Fields = match.Given(w.Fields, r.given)
	}
	if r.texted && w.Fits && !slices.ContainsFunc(w.Fields, func(f entry.Field) bool { return f.Name == "text" }) {
		w.Fields = append(w.Fields, entry.Field{Name: "text", Value: w.whole(raw, r.masked)})
	}
	w.at = r.last
	return r.printer.print(r.out, w, raw, r.masked)
}

// columns are the fields that a layout and its source give, in their order.
func (o *fieldsOptions) columns(l *lang.Layout) []string {
	if o.only != nil {
		return o.only
	}
	if l == nil || l.Open() {
		return nil
	}
	out := l.Fields()
	for _, f := range o.given {
		if !slices.Contains(out, f) {
			out = append(out, f)
		}
	}
	return out
}

// fieldFilter are the expressions that hold for the entries that are printed.
type fieldFilter struct {
	where, only lang.Expr
}

// takes tells whether an entry is one of those that are printed.
func (o *fieldsOptions) takes(plan *match.Plan, x *layout.Division, raw []byte, at entry.Instant, host,
	path string) bool {
	if o.earliest != 0 && at < o.earliest || o.latest != 0 && at >= o.latest {
		return false
	}
	if o.filter == nil {
		return true
	}
	e := &entry.Entry{Source: plan.Source, Origin: host + ":" + path, Host: host, At: at, Arrived: at, Fits: x.Fits,
		Raw: strings.ToValidUTF8(string(raw), "\uFFFD"), Fields: x.Fields}
	for _, expr := range []lang.Expr{o.filter.only, o.filter.where} {
		if expr != nil && !match.Eval(expr, &match.Subject{Entry: e}) {
			return false
		}
	}
	return true
}

// filterOf reads --where among the settings of the source, and takes its only.
func (o *fieldsOptions) filterOf(texts []folder.Text, src *lang.Source) error {
	f := &fieldFilter{only: src.Only}
	if o.where != "" {
		sought, err := query.Seek(texts, []string{src.Name}, o.where)
		if err == nil && sought.Words != nil {
			err = fmt.Errorf("--where %s is no expression: such are level >= warning, status in (500..599), "+
				"\"phrase\" "+
				"or /pattern/", o.where)
		}
		if err != nil {
			return err
		}
		f.where = sought.Expr()
	}
	if f.where != nil || f.only != nil {
		o.filter = f
	}
	for _, x := range src.Fields {
		o.given = append(o.given, x.Name)
	}
	return nil
}

// stdinAside puts standard input into a file of its own, so that it can be looked at before it
// is read.
func stdinAside(files []string) ([]string, func(), error) {
	i := slices.Index(files, "-")
	if i < 0 {
		return files, func() {}, nil
	}
	f, err := os.CreateTemp("", "dimlantern-input-")
	if err != nil {
		return nil, nil, err
	}
	done := func() { os.Remove(f.Name()) }
	_, err = io.Copy(f, os.Stdin)
	if err := errors.Join(err, f.Close()); err != nil {
		done()
		return nil, nil, fmt.Errorf("standard input cannot be read: %w", err)
	}
	files = slices.Clone(files)
	files[i] = f.Name()
	return files, done, nil
}

// reasons groups what does not fit.
type reasons struct {
	total  int
	counts map[string]int
	first  map[string]string
	order  []string
}

func newReasons() *reasons { return &reasons{counts: map[string]int{}, first: map[string]string{}} }

// maxReasons bounds how many reasons are told apart.
const maxReasons = 1000

func (r *reasons) add(x *layout.Division, line []byte) {
	for _, m := range x.Misfits {
		if r.counts[m.Reason] == 0 {
			if len(r.order) >= maxReasons {
				continue
			}
			r.order = append(r.order, m.Reason)
			v := m.Value
			if v == "" {
				v = strings.ToValidUTF8(string(line[:min(len(line), 200)]), "\uFFFD")
			}
			r.first[m.Reason] = x.Hide(v)
		}
		r.counts[m.Reason]++
	}
}

// tell says on standard error how many entries do not fit, and why.
func (r *reasons) tell() {
	clearProgress()
	sort.SliceStable(r.order, func(i, j int) bool { return r.counts[r.order[i]] > r.counts[r.order[j]] })
	for _, reason := range r.order {
		fmt.Fprintf(os.Stderr, "%s of %s: %s: `%s`\n", thousands(r.counts[reason]), thousands(r.total), reason,
			shown(r.first[reason]))
	}
	if len(r.order) == 0 {
		fmt.Fprintf(os.Stderr, "all %s fit\n", thousands(r.total))
	}
}

func thousands(n int) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}
