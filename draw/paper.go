package draw

import (
	"bytes"
	_ "embed" // the page
	"encoding/csv"
	"fmt"
	"html/template"
	"image/color"
	"io"
	"regexp"
	"strings"
	"time"
)

// Paper is a report: answers to questions, with pictures, tables and what they rest on.
type Paper struct {
	Title string
	Host  string // the machine on which it was made
	Span  string // what it covers, in words
	Made  string // when it was made, in words
	Parts []Part
}

// Part is an answer in a report.
type Part struct {
	Title    string
	Question string   // as it was asked, in one line
	Words    []string // what it means
	Failed   string   // why there is no answer; "" where there is
	Picture  *Numbers // nil where it has none
	Head     []string
	Right    []bool // columns that stand at the right
	Rows     [][]string
	Bars     []float64 // of each row; nil where there are none
	// Page is the table that stands on pages instead, such as one with less in it; nil is the same. The
	// whole one is in csv and json.
	Page  *Part
	More  int      // rows that have no room
	Lists []List   // instead of a table
	Rests []string // what it rests on
	Empty bool     // it has nothing
}

// List is lines below a heading.
type List struct {
	Title string
	Lines []Line
}

// Line is a line of a list. Sort is the severity of what it is about, "over", or "".
type Line struct{ Sort, Text, More string }

// Table is what of the part stands on pages as a table.
func (p *Part) Table() *Part {
	if p.Page != nil {
		return p.Page
	}
	return p
}

// Empty tells whether no part has anything.
func (p *Paper) Empty() bool {
	for i := range p.Parts {
		if !p.Parts[i].Empty {
			return false
		}
	}
	return true
}

//go:embed paper.html
var paperText string

var paperPage = template.Must(template.New("paper").Funcs(template.FuncMap{
	"shown": printable,
	"picture": func(n *Numbers) (template.HTML, error) {
		s, err := n.inline()
		return template.HTML(s), err
	},
	"bar":   barOf,
	"right": func(right []bool, i int) bool { return i < len(right) && right[i] },
	"style": func() template.CSS { return template.CSS(paperColours()) },
}).Parse(paperText))

// HTML writes the report as one page that needs nothing else: pictures are in it, its colours follow the
// reader's, and it can be printed.
func (p *Paper) HTML(w io.Writer) error {
	var b bytes.Buffer
	if err := paperPage.Execute(&b, p); err != nil {
		return err
	}
	_, err := b.WriteTo(w)
	return err
}

// barOf is how long a row's bar is, in percent of the greatest.
func barOf(bars []float64, i int) string {
	most := 0.0
	for _, b := range bars {
		most = max(most, b)
	}
	if most == 0 || i >= len(bars) {
		return "0"
	}
	return fmt.Sprintf("%.1f", 100*max(bars[i], 0)/most)
}

// inkNames are the names of the colours of a picture, as a page sets them for a dark and a light ground.
func inkNames() []struct {
	name        string
	light, dark color.RGBA
} {
	type names = []struct {
		name        string
		light, dark color.RGBA
	}
	return names{{"ground", onLight.ground, onDark.ground}, {"ink", onLight.ink, onDark.ink},
		{"pale", onLight.pale, onDark.pale}, {"faint", onLight.faint, onDark.faint}, {"bar", onLight.bar, onDark.bar},
		{"strong", onLight.strong, onDark.strong}, {"beside", onLight.beside, onDark.beside},
		{"unseen", onLight.unseen, onDark.unseen}}
}

func hexOf(c color.RGBA) string { return fmt.Sprintf("#%02X%02X%02X", c.R, c.G, c.B) }

// paperColours are the page's colours, on a light ground and, where the reader prefers that, on a dark one.
func paperColours() string {
	var light, dark strings.Builder
	for _, c := range inkNames() {
		fmt.Fprintf(&light, "--%s:%s;", c.name, hexOf(c.light))
		fmt.Fprintf(&dark, "--%s:%s;", c.name, hexOf(c.dark))
	}
	return ":root{" + light.String() + "}@media(prefers-color-scheme:dark){:root{" + dark.String() +
		"}}@media print{:root{" + light.String() + "}}"
}

var hexColour = regexp.MustCompile(`#[0-9A-F]{6}`)

// inline is the picture as a part of a page, in the page's colours; who does not know these sees it on a
// light ground.
func (n *Numbers) inline() (string, error) {
	light := *n
	light.Dark = false
	var b strings.Builder
	if err := light.SVG(&b); err != nil {
		return "", err
	}
	s := b.String()
	if i := strings.Index(s, "<svg"); i > 0 {
		s = s[i:]
	}
	names := map[string]string{}
	for _, c := range inkNames() {
		names[hexOf(c.light)] = c.name
	}
	return hexColour.ReplaceAllStringFunc(s, func(c string) string {
		if n := names[c]; n != "" {
			return "var(--" + n + "," + c + ")"
		}
		return c
	}), nil
}

// Text writes the report as plain text, its tables no wider than a mail.
func (p *Paper) Text(w io.Writer) error {
	var b bytes.Buffer
	fmt.Fprintf(&b, "%s\n%s\n%s, made %s\n", printable(p.Title), p.Span, printable(p.Host), p.Made)
	for i := range p.Parts {
		x := &p.Parts[i]
		fmt.Fprintf(&b, "\n\n%s\n%s\n", printable(x.Title), strings.Repeat("-", min(len([]rune(x.Title)), 72)))
		for _, s := range x.Words {
			fmt.Fprintln(&b, printable(s))
		}
		switch {
		case x.Failed != "":
			fmt.Fprintln(&b, "\nno answer: "+printable(x.Failed))
		case x.Empty && len(x.Lists) == 0:
			fmt.Fprintln(&b, "\nnothing")
		}
		textTable(&b, x)
		for _, l := range x.Lists {
			fmt.Fprintf(&b, "\n%s\n", l.Title)
			for _, line := range l.Lines {
				fmt.Fprintf(&b, "- %s\n", printable(line.Text))
				if line.More != "" {
					fmt.Fprintf(&b, "  %s\n", printable(line.More))
				}
			}
		}
		for k, s := range x.Rests {
			if k == 0 {
				fmt.Fprintln(&b)
			}
			fmt.Fprintln(&b, printable(s))
		}
	}
	_, err := b.WriteTo(w)
	return err
}

// mostCell is how long a cell of a table in text is at most, in characters.
const mostCell = 40

func textTable(b *bytes.Buffer, x *Part) {
	x = x.Table()
	if len(x.Rows) == 0 {
		return
	}
	cell := func(s string) []rune {
		r := []rune(printable(s))
		if len(r) > mostCell {
			r = append(r[:mostCell-1], '…')
		}
		return r
	}
	widths := make([]int, len(x.Head))
	for i, h := range x.Head {
		widths[i] = len(cell(h))
	}
	for _, row := range x.Rows {
		for i, c := range row {
			widths[i] = max(widths[i], len(cell(c)))
		}
	}
	line := func(cells []string) {
		var out strings.Builder
		for i, c := range cells {
			r := cell(c)
			pad := strings.Repeat(" ", widths[i]-len(r))
			if i < len(x.Right) && x.Right[i] {
				out.WriteString(pad + string(r) + "  ")
			} else {
				out.WriteString(string(r) + pad + "  ")
			}
		}
		b.WriteString(strings.TrimRight(out.String(), " ") + "\n")
	}
	b.WriteByte('\n')
	line(x.Head)
	for _, row := range x.Rows {
		line(row)
	}
	if x.More > 0 {
		fmt.Fprintf(b, "and %d rows more\n", x.More)
	}
}

// CSV writes the report's tables, each behind a line with its title; cell makes a cell safe.
func (p *Paper) CSV(w io.Writer, cell func(string) string) error {
	out := csv.NewWriter(w)
	row := func(cells ...string) {
		for i := range cells {
			cells[i] = cell(strings.ToValidUTF8(cells[i], "\uFFFD"))
		}
		out.Write(cells)
	}
	row(p.Title, p.Span, p.Host, p.Made)
	for i := range p.Parts {
		x := &p.Parts[i]
		out.Write(nil)
		row(x.Title, x.Question)
		if x.Failed != "" {
			row("no answer", x.Failed)
		}
		if len(x.Head) > 0 {
			row(append([]string(nil), x.Head...)...)
		}
		for _, r := range x.Rows {
			row(append([]string(nil), r...)...)
		}
		for _, l := range x.Lists {
			for _, line := range l.Lines {
				row(l.Title, line.Sort, line.Text, line.More)
			}
		}
		for _, s := range x.Rests {
			row("rests on", s)
		}
	}
	out.Flush()
	return out.Error()
}

// Stamp is a time as reports write it.
func Stamp(t time.Time) string { return t.Format("Mon 2 Jan 2006 15:04 MST") }

// Brief is the report in a few lines: of each part its first row, or why it has none.
func (p *Paper) Brief() string {
	lines := []string{printable(p.Title) + ", " + p.Span}
	for i := range p.Parts {
		x := &p.Parts[i]
		t := x.Table()
		said := "nothing"
		switch {
		case x.Failed != "":
			said = "no answer: " + x.Failed
		case len(t.Rows) > 0:
			var cells []string
			for k, c := range t.Rows[0] {
				cells = append(cells, t.Head[k]+" "+c)
			}
			said = strings.Join(cells, ", ")
			if n := len(t.Rows) - 1 + t.More; n > 0 {
				said += fmt.Sprintf("; and %d rows more", n)
			}
		case len(x.Lists) > 0 && len(x.Words) > 0:
			said = x.Words[0]
		}
		lines = append(lines, printable(x.Title)+": "+printable(said))
	}
	return strings.Join(lines, "\n") + "\n"
}
