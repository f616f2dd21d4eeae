// Package draw puts lifelines on paper: what happened to each key along time, as
// an SVG or PDF drawing. Facts come in, bytes of a drawing go out; nothing is
// asked, and no file is opened here.
package draw

import (
	"fmt"
	"image/color"
	"io"
	"sort"
	"strings"
	"time"

	"golang.org/x/text/encoding/charmap"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/font/liberation"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgpdf"
	"gonum.org/v1/plot/vg/vgsvg"

	"dimlantern/core/entry"
)

// Chart is a drawing of lifelines on one time axis.
type Chart struct {
	Title    string
	From, To entry.Instant
	Zone     *time.Location // of the axis's labels; nil is UTC
	Rows     []Row
}

// Row is the lifeline of one key.
type Row struct {
	Rule, Key string
	Hits      []entry.Instant
	Alerts    []Alert
}

// Alert is a bar of a lifeline. To is None where it is still open at the end.
type Alert struct {
	From, To entry.Instant
	Why      string // of its end
	Steps    []Step
}

// Step is when an alert got a severity.
type Step struct {
	At       entry.Instant
	Severity entry.Severity
}

// SVG writes the chart as an SVG 1.1 drawing, as high as its rows need.
func (c *Chart) SVG(w io.Writer) error {
	v := vgsvg.New(width, vg.Length(headed+footed+rowHigh*max(len(c.Rows), 1)))
	c.paint(v, c.Rows, "", func(s string) string { return s })
	_, err := v.WriteTo(w)
	return err
}

// PDF writes the chart as a PDF on pages of A4, its fonts embedded; each page has the
// axis and the legend.
func (c *Chart) PDF(w io.Writer) error {
	v := vgpdf.New(width, page)
	v.EmbedFonts(true)
	pages := max((len(c.Rows)+pageRows-1)/pageRows, 1)
	for i := range pages {
		number := ""
		if pages > 1 {
			number = fmt.Sprintf("page %d of %d", i+1, pages)
		}
		if i > 0 {
			v.NextPage()
		}
		c.paint(v, c.Rows[min(i*pageRows, len(c.Rows)):min((i+1)*pageRows, len(c.Rows))], number, codePage)
	}
	_, err := v.WriteTo(w)
	return err
}

// codePage writes a text in the one code page that the PDF's fonts have; what is
// not in it becomes a question mark.
func codePage(s string) string {
	var b strings.Builder
	for _, r := range s {
		c, ok := charmap.Windows1252.EncodeRune(r)
		if !ok {
			c = '?'
		}
		b.WriteByte(c)
	}
	return b.String()
}

// Measures in points.
const (
	width   = 842 // the long side of A4
	narrow  = 560 // as wide as what is written in a mail
	margin  = 28
	names   = 190
	notes   = 78
	rowHigh = 17
	headed  = 62
	footed  = 44
	page    = 595 // the short side of A4
	// pageRows is how many rows a page has room for.
	pageRows = (page - headed - footed) / rowHigh
)

var faces = font.NewCache(liberation.Collection())

func face(size vg.Length) font.Face {
	return faces.Lookup(font.Font{Typeface: "Liberation", Variant: "Sans", Size: size}, size)
}

// On paper, too, the worse stands out the more.
var (
	ink      = color.RGBA{R: 0x2b, G: 0x24, B: 0x18, A: 255}
	pale     = color.RGBA{R: 0x7d, G: 0x72, B: 0x5f, A: 255}
	faint    = color.RGBA{R: 0xd8, G: 0xce, B: 0xbb, A: 255}
	over     = color.RGBA{R: 0x1f, G: 0x75, B: 0x6c, A: 255}
	severity = [5]color.RGBA{pale, {R: 0xd9, G: 0xbd, B: 0x86, A: 255}, {R: 0xc4, G: 0x85, B: 0x3a, A: 255},
		{R: 0x8a, G: 0x4b, B: 0x06, A: 255}, {R: 0x2b, G: 0x15, B: 0, A: 255}}
)

// painter draws on a canvas whose y grows upwards.
type painter struct {
	vg.Canvas
	c      *Chart
	left   vg.Length
	right  vg.Length
	bottom vg.Length
	high   vg.Length
	encode func(string) string
}

// paint draws some rows, and the number of the page where there are several.
func (c *Chart) paint(v vg.CanvasSizer, rows []Row, number string, encode func(string) string) {
	w, h := v.Size()
	p := &painter{v, c, margin + names, w - margin - notes, footed, h, encode}
	p.rect(0, 0, w, h, color.White)
	small := face(8)
	p.text(margin, h-28, face(13), ink, fit(face(13), c.Title, w-2*margin-small.Width(number)-8))
	span := fmt.Sprintf("%s to %s, %s", c.stamp(c.From), c.stamp(c.To), c.To.Time().In(c.zone()).Format("MST"))
	p.text(margin, h-44, small, pale, span)
	p.text(w-margin-small.Width(number), h-28, small, pale, number)
	p.bottom = max(p.bottom, h-headed-vg.Length(rowHigh*max(len(rows), 1)))
	p.axis()
	for i := range rows {
		p.row(&rows[i], h-headed-vg.Length(rowHigh*(i+1)))
	}
	if len(rows) == 0 {
		p.text(p.left, h-headed-rowHigh, face(9), pale, "no rule had a hit")
	}
	p.legend(w-margin, margin+small.Width(span)+20)
}

func (c *Chart) zone() *time.Location {
	if c.Zone == nil {
		return time.UTC
	}
	return c.Zone
}

func (c *Chart) stamp(t entry.Instant) string {
	return t.Time().In(c.zone()).Format("2006-01-02 15:04")
}

// x is where an instant stands.
func (p *painter) x(t entry.Instant) vg.Length {
	span := float64(p.c.To - p.c.From)
	if span <= 0 {
		return p.left
	}
	share := min(max(float64(t-p.c.From)/span, 0), 1)
	return p.left + (p.right-p.left)*vg.Length(share)
}

func (p *painter) rect(x, y, w, h vg.Length, c color.Color) {
	var path vg.Path
	path.Move(vg.Point{X: x, Y: y})
	path.Line(vg.Point{X: x + w, Y: y})
	path.Line(vg.Point{X: x + w, Y: y + h})
	path.Line(vg.Point{X: x, Y: y + h})
	path.Close()
	p.SetColor(c)
	p.Fill(path)
}

func (p *painter) line(x0, y0, x1, y1, width vg.Length, c color.Color, dash ...vg.Length) {
	var path vg.Path
	path.Move(vg.Point{X: x0, Y: y0})
	path.Line(vg.Point{X: x1, Y: y1})
	p.SetColor(c)
	p.SetLineWidth(width)
	p.SetLineDash(dash, 0)
	p.Stroke(path)
}

// text writes a text; what cannot be printed is left out, and what is longer than
// its room is cut by fit.
func (p *painter) text(x, y vg.Length, f font.Face, c color.Color, s string) {
	p.SetColor(c)
	p.FillString(f, vg.Point{X: x, Y: y}, p.encode(printable(s)))
}

func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x20 || r >= 0x7f && r < 0xa0 || r >= 0x2028 && r <= 0x202e || r >= 0x2066 && r <= 0x2069 ||
			r == 0xfffe || r == 0xffff { // these two are no characters of XML 1.0, section 2.2
			return -1
		}
		return r
	}, strings.ToValidUTF8(s, "?"))
}

// fit shortens a text to the room that there is for it, whatever its length.
func fit(f font.Face, s string, room vg.Length) string {
	const most = 1024 // bytes that are looked at: more have no room in any drawing
	long := len(s) > most
	if long {
		s = s[:most]
	}
	s = printable(s)
	if !long && f.Width(s) <= room {
		return s
	}
	r := []rune(s)
	n := sort.Search(len(r), func(n int) bool { return f.Width(string(r[:n+1])+"…") > room })
	return string(r[:n]) + "…"
}

var steps = []time.Duration{time.Second, 5 * time.Second, 15 * time.Second, time.Minute, 5 * time.Minute,
	10 * time.Minute, 30 * time.Minute,
	time.Hour, 2 * time.Hour, 6 * time.Hour, 12 * time.Hour, 24 * time.Hour, 7 * 24 * time.Hour, 28 * 24 * time.Hour,
	364 * 24 * time.Hour}

// axis draws the labels and fine lines of the time axis.
func (p *painter) axis() {
	y := p.bottom
	p.line(p.left, y, p.right, y, 0.6, pale)
	span := p.c.To.Sub(p.c.From)
	step := steps[len(steps)-1]
	for _, s := range steps {
		if span/s <= 9 {
			step = s
			break
		}
	}
	first := p.c.From.Time().In(p.c.zone())
	t := time.Date(first.Year(), first.Month(), first.Day(), 0, 0, 0, 0, p.c.zone())
	t = t.Add(first.Sub(t) / step * step)
	form := "15:04"
	switch {
	case step < time.Minute:
		form = "15:04:05"
	case step >= 24*time.Hour:
		form = "2 Jan"
	}
	f := face(8)
	for ; entry.Of(t) <= p.c.To; t = t.Add(step) {
		if entry.Of(t) < p.c.From {
			continue
		}
		x := p.x(entry.Of(t))
		p.line(x, y, x, p.high-headed, 0.3, faint)
		s := t.Format(form)
		p.text(x-f.Width(s)/2, y-11, f, pale, s)
	}
}

// row draws a lifeline whose text stands on y.
func (p *painter) row(r *Row, y vg.Length) {
	f := face(8.5)
	s := fit(f, r.Rule, names*3/5)
	p.text(margin, y+4, f, ink, s)
	at := margin + f.Width(s) + 6
	p.text(at, y+4, f, pale, fit(f, r.Key, margin+names-at-8))
	base := y + 3
	p.line(p.left, base, p.right, base, 0.5, faint, 1, 2)
	for _, h := range r.Hits {
		x := p.x(h)
		p.line(x, base, x, base+2.6, 0.5, pale)
	}
	for _, a := range r.Alerts {
		p.alert(&a, base)
	}
	note := fmt.Sprintf("%d hits", len(r.Hits))
	if len(r.Hits) == 1 {
		note = "1 hit"
	}
	if n := len(r.Alerts); n == 1 {
		note += ", 1 alert"
	} else if n > 1 {
		note += fmt.Sprintf(", %d alerts", n)
	}
	p.text(p.right+8, y+4, f, pale, note)
}

func (p *painter) alert(a *Alert, base vg.Length) {
	to := a.To
	if to == entry.None {
		to = p.c.To
	}
	for i, s := range a.Steps {
		end := to
		if i+1 < len(a.Steps) {
			end = a.Steps[i+1].At
		}
		high := 4 + 1.4*vg.Length(s.Severity)
		p.rect(p.x(s.At), base, max(p.x(end)-p.x(s.At), 0.8), high, severity[min(int(s.Severity), 4)])
	}
	if a.To == entry.None {
		return
	}
	dash := []vg.Length{1.2, 1.2}
	if a.Why == "recovery" || a.Why == "heard" || a.Why == "eased" {
		dash = nil
	}
	x := p.x(to) + 0.8
	p.line(x, base-1, x, base+11, 1.4, over, dash...)
}

// legend says what the marks stand for: above the rows, at the right of the span, or, where there is no
// room for it, below them.
func (p *painter) legend(right, beside vg.Length) {
	f := face(7.5)
	words := []string{"ended by its recovery", "ended otherwise", "a hit"}
	wide := vg.Length(0)
	for s := entry.Notice; s <= entry.Critical; s++ {
		wide += 15 + f.Width(s.String()) + 12
	}
	for _, w := range words {
		wide += 5 + f.Width(w) + 14
	}
	x, y := right-wide+14, p.high-46
	if x < beside {
		x, y = margin, 14
	}
	for s := entry.Notice; s <= entry.Critical; s++ {
		p.rect(x, y, 12, 4+1.4*vg.Length(s), severity[s])
		p.text(x+15, y+1, f, pale, s.String())
		x += 15 + f.Width(s.String()) + 12
	}
	for i, w := range words {
		switch i {
		case 0:
			p.line(x, y-1, x, y+10, 1.4, over)
		case 1:
			p.line(x, y-1, x, y+10, 1.4, over, 1.2, 1.2)
		default:
			p.line(x, y, x, y+3, 0.5, pale)
		}
		p.text(x+5, y+1, f, pale, w)
		x += 5 + f.Width(w) + 14
	}
}

// PNG writes the chart as a picture for a screen, narrower than a page, at so many dots an
// inch.
func (c *Chart) PNG(w io.Writer, dpi int) error {
	v := vgimg.NewWith(vgimg.UseWH(narrow, vg.Length(headed+footed+rowHigh*max(len(c.Rows), 1))), vgimg.UseDPI(dpi),
		vgimg.UseBackgroundColor(color.RGBA{R: 0xfb, G: 0xf7, B: 0xee, A: 255}))
	c.paint(v, c.Rows, "", func(s string) string { return s })
	_, err := vgimg.PngCanvas{Canvas: v}.WriteTo(w)
	return err
}
