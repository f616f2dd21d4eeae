package draw

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"strings"
	"time"

	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/vgpdf"
	"gonum.org/v1/plot/vg/vgsvg"

	"dimlantern/core/entry"
)

// Numbers is a picture of numbers: of several groups along time, or of each group one.
type Numbers struct {
	Title    string
	Question string // what was asked, in one line
	What     string // which number that is, with its unit
	From, To entry.Instant
	Zone     *time.Location  // nil is UTC
	Bounds   []entry.Instant // of the periods; nil is one number a group
	Groups   []NumberRow
	Beside   string               // what stands beside, in words; "" is nothing
	Unseen   []Unseen             // stretches in which something could not be seen
	Rests    []string             // what the numbers rest on
	Shown    func(float64) string // how a number is written
	Dark     bool                 // on a dark ground
	Most     int                  // so many groups along time are drawn; 0 is as many as there is room for
}

// NumberRow is a group of a picture.
type NumberRow struct {
	Name            string
	Rest            bool     // all others
	Value           *float64 // over the span
	Beside          *float64
	Series, Besides []*float64 // by period
}

// Unseen is a stretch of time that is hatched.
type Unseen struct{ From, To entry.Instant }

// colours of a ground.
type colours struct{ ground, ink, pale, faint, bar, strong, beside, unseen color.RGBA }

var (
	onDark = colours{
		ground: rgb(0x14110d),
		ink:    rgb(0xcdbfa8),
		pale:   rgb(0x8f8472),
		faint:  rgb(0x3a342b),
		bar:    rgb(0x8f8472),
		strong: rgb(0xcdbfa8),
		beside: rgb(0x948ca3),
		unseen: rgb(0x6d667a),
	}
	onLight = colours{
		ground: rgb(0xfffdf8),
		ink:    ink,
		pale:   pale,
		faint:  faint,
		bar:    rgb(0xb7a98c),
		strong: rgb(0x6d5f45),
		beside: rgb(0x6f6684),
		unseen: rgb(0xa79fb5),
	}
)

func rgb(n uint32) color.RGBA {
	return color.RGBA{R: uint8(n >> 16), G: uint8(n >> 8), B: uint8(n), A: 255}
}

// Measures of a picture of numbers, in points.
const (
	bandHigh  = 50
	bigHigh   = 120
	barHigh   = 19
	pictHead  = 84
	axisHigh  = 26
	mostBands = 24
	mostBars  = 60
	restHigh  = 12
)

// SVG writes the picture as an SVG 1.1 drawing, as high as it needs.
func (n *Numbers) SVG(w io.Writer) error {
	v := vgsvg.New(width, n.high())
	n.paint(v, func(s string) string { return s })
	_, err := v.WriteTo(w)
	return err
}

// PDF writes the picture as a PDF of one page, its fonts embedded.
func (n *Numbers) PDF(w io.Writer) error {
	v := vgpdf.New(width, n.high())
	v.EmbedFonts(true)
	n.paint(v, codePage)
	_, err := v.WriteTo(w)
	return err
}

// rows are the groups that are drawn, and how many are not.
func (n *Numbers) rows() (list []NumberRow, left int) {
	most := mostBars
	if n.Bounds != nil {
		most = mostBands
	}
	if n.Most > 0 {
		most = min(most, n.Most)
	}
	if len(n.Groups) > most {
		return n.Groups[:most], len(n.Groups) - most
	}
	return n.Groups, 0
}

// high is how high the picture is.
func (n *Numbers) high() vg.Length {
	rows, left := n.rows()
	h := vg.Length(pictHead + restHigh*(len(n.Rests)+1) + 20)
	if left > 0 {
		h += restHigh
	}
	if n.Bounds == nil {
		return h + vg.Length(max(len(rows), 1)*barHigh)
	}
	return h + vg.Length(bigHigh+max(len(rows)-1, 0)*bandHigh+axisHigh)
}

// paint draws the picture.
func (n *Numbers) paint(v vg.CanvasSizer, encode func(string) string) {
	w, h := v.Size()
	c := onLight
	if n.Dark {
		c = onDark
	}
	zone := n.Zone
	if zone == nil {
		zone = time.UTC
	}
	chart := &Chart{From: n.From, To: n.To, Zone: zone}
	p := &painter{v, chart, margin + 150, w - margin - 110, 0, h, encode}
	p.rect(0, 0, w, h, c.ground)
	small := face(8)
	p.text(margin, h-30, face(15), c.ink, fit(face(15), n.Title, w-2*margin))
	what := n.What
	if n.Beside != "" {
		what = strings.TrimPrefix(what+"; dots: "+n.Beside, "; ")
	}
	p.text(margin, h-46, face(9), c.ink, fit(face(9), what, w-2*margin))
	span := fmt.Sprintf("%s to %s, %s", chart.stamp(n.From), chart.stamp(n.To), n.To.Time().In(zone).Format("MST"))
	p.text(margin, h-59, small, c.pale, span)
	p.text(margin, h-71, small, c.pale, fit(small, n.Question, w-2*margin))
	rows, left := n.rows()
	top := h - pictHead
	if n.Bounds == nil {
		top = n.bars(p, c, rows, top)
	} else {
		top = n.bands(p, c, rows, top)
	}
	if left > 0 {
		p.text(margin, top-8, small, c.pale, fmt.Sprintf("and %d groups more, which are in the table", left))
		top -= restHigh
	}
	for i, s := range n.Rests {
		p.text(margin, top-14-vg.Length(i*restHigh), small, c.pale, fit(small, s, w-2*margin))
	}
}

// least and greatest are the bounds of the value axis of some numbers: it holds 0.
func bounds(lists ...[]*float64) (lo, hi float64) {
	for _, list := range lists {
		for _, f := range list {
			if f != nil {
				lo, hi = math.Min(lo, *f), math.Max(hi, *f)
			}
		}
	}
	if hi == lo {
		hi = lo + 1
	}
	return lo, hi
}

// along is where between lo and hi a number lies, from 0 to 1, also where they are too far apart to subtract.
func along(f, lo, hi float64) vg.Length {
	if math.IsInf(hi-lo, 1) {
		f, lo, hi = f/2, lo/2, hi/2
	}
	return vg.Length((f - lo) / (hi - lo))
}

// bands draws the groups along time, the first one large, and returns where they end.
func (n *Numbers) bands(p *painter, c colours, rows []NumberRow, top vg.Length) vg.Length {
	bottom := top - vg.Length(bigHigh+max(len(rows)-1, 0)*bandHigh)
	p.bottom = bottom
	n.axis(p, c, top)
	if len(rows) == 0 {
		p.text(p.left, top-20, face(9), c.pale, "nothing fits")
	}
	for i := range rows {
		high := vg.Length(bandHigh)
		if i == 0 {
			high = bigHigh
		}
		n.band(p, c, &rows[i], top, high-12, i == 0)
		top -= high
	}
	return bottom - axisHigh
}

// band draws a group between top and what lies so high below it.
func (n *Numbers) band(p *painter, c colours, r *NumberRow, top, high vg.Length, large bool) {
	lo, hi := bounds(r.Series, r.Besides)
	y := func(f float64) vg.Length { return top - high + high*along(f, lo, hi) }
	base := y(0)
	name := face(9)
	p.text(margin, top-11, name, c.ink, fit(name, r.Name, p.left-margin-46))
	small := face(7.5)
	for _, f := range []float64{lo, hi} {
		s := n.shown(f)
		p.text(p.left-6-small.Width(s), y(f)-2.5, small, c.pale, s)
		if f == hi || f == 0 {
			p.line(p.left, y(f), p.right, y(f), 0.3, c.faint)
		}
	}
	for _, u := range n.Unseen {
		n.hatch(p, c, u, top-high, high)
	}
	fill := c.bar
	if large {
		fill = c.strong
	}
	for k, f := range r.Series {
		if f == nil || k+1 >= len(n.Bounds) {
			continue
		}
		x0, x1 := p.x(max(n.Bounds[k], n.From)), p.x(min(n.Bounds[k+1], n.To))
		gap := vg.Length(0)
		if x1-x0 > 4 {
			gap = 0.8
		}
		h := y(*f) - base
		if h > 0 && h < 0.5 {
			h = 0.5
		}
		p.rect(x0, base, max(x1-x0-gap, 0.4), h, fill)
	}
	for k, f := range r.Besides {
		if f == nil || k+1 >= len(n.Bounds) {
			continue
		}
		x0, x1 := p.x(max(n.Bounds[k], n.From)), p.x(min(n.Bounds[k+1], n.To))
		p.line(x0, y(*f), max(x1, x0+1), y(*f), 1.1, c.beside, 1, 1.4)
	}
	n.note(p, c, r, top-11)
}

// note writes the number over the span, and what stands beside it.
func (n *Numbers) note(p *painter, c colours, r *NumberRow, y vg.Length) {
	f := face(9)
	if r.Value == nil {
		return
	}
	s := n.shown(*r.Value)
	p.text(p.right+10, y, f, c.ink, s)
	if r.Beside != nil {
		p.text(p.right+10+f.Width(s)+8, y, face(8), c.beside, n.shown(*r.Beside))
	}
}

// hatch marks what could not be seen.
func (n *Numbers) hatch(p *painter, c colours, u Unseen, y, high vg.Length) {
	x0, x1 := p.x(max(u.From, n.From)), p.x(min(u.To, n.To))
	for x := x0; x < max(x1, x0+1); x += 4 {
		end := min(x+4, max(x1, x0+1))
		p.line(x, y, end, y+high, 0.6, c.unseen)
	}
}

// axis draws the time axis below the groups.
func (n *Numbers) axis(p *painter, c colours, top vg.Length) {
	y := p.bottom
	p.line(p.left, y, p.right, y, 0.6, c.pale)
	f := face(8)
	free := p.left - 20
	for _, t := range ticks(p.c.From, p.c.To, p.c.zone()) {
		x := p.x(t.at)
		if x-f.Width(t.text)/2 < free {
			continue
		}
		p.line(x, y, x, top, 0.25, c.faint)
		p.text(x-f.Width(t.text)/2, y-12, f, c.pale, t.text)
		free = x + f.Width(t.text)/2 + 8
	}
}

// tick is a label of a time axis.
type tick struct {
	at   entry.Instant
	text string
}

// ticks are at most some nine labels of a span, at whole times of day in a zone.
func ticks(from, to entry.Instant, zone *time.Location) []tick {
	step := steps[len(steps)-1]
	for _, s := range steps {
		if to.Sub(from)/s <= 9 {
			step = s
			break
		}
	}
	form := "15:04"
	switch {
	case step < time.Minute:
		form = "15:04:05"
	case step >= 24*time.Hour:
		form = "2 Jan"
	}
	first := from.Time().In(zone)
	var out []tick
	for day := 0; ; day++ {
		t := time.Date(first.Year(), first.Month(), first.Day()+day, 0, 0, 0, 0, zone)
		if entry.Of(t) >= to {
			return out
		}
		if step >= 24*time.Hour {
			if n := int(step / (24 * time.Hour)); day%n == 0 && entry.Of(t) >= from {
				out = append(out, tick{entry.Of(t), t.Format(form)})
			}
			continue
		}
		end := time.Date(t.Year(), t.Month(), t.Day()+1, 0, 0, 0, 0, zone)
		for at := t; at.Before(end); at = at.Add(step) {
			if x := entry.Of(at); x >= from && x <= to {
				text := at.Format(form)
				if text == "00:00" {
					text = at.Format("2 Jan")
				}
				out = append(out, tick{x, text})
			}
		}
	}
}

// bars draws a bar a group, and returns where they end.
func (n *Numbers) bars(p *painter, c colours, rows []NumberRow, top vg.Length) vg.Length {
	var all []*float64
	for i := range rows {
		all = append(all, rows[i].Value, rows[i].Beside)
	}
	lo, hi := bounds(all)
	x := func(f float64) vg.Length { return p.left + (p.right-p.left)*along(f, lo, hi) }
	if len(rows) == 0 {
		p.text(p.left, top-14, face(9), c.pale, "nothing fits")
		return top - barHigh
	}
	name := face(9)
	for i := range rows {
		r := &rows[i]
		y := top - barHigh + 5
		fill := c.strong
		if r.Rest {
			fill = c.faint
		}
		p.text(margin, y+3, name, c.ink, fit(name, r.Name, p.left-margin-8))
		if r.Value != nil {
			x0, x1 := x(0), x(*r.Value)
			p.rect(min(x0, x1), y, max(x1-x0, x0-x1, 0.5), barHigh-7, fill)
		}
		if r.Beside != nil {
			b := x(*r.Beside)
			p.line(b, y-2, b, y+barHigh-5, 1.4, c.beside, 1.5, 1.2)
		}
		n.note(p, c, r, y+3)
		top -= barHigh
	}
	return top
}

func (n *Numbers) shown(f float64) string {
	if n.Shown != nil {
		return n.Shown(f)
	}
	return fmt.Sprintf("%.6g", f)
}
