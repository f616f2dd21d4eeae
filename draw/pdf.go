package draw

import (
	"fmt"
	"image"
	"image/color"
	"io"
	"strings"

	"codeberg.org/go-fonts/liberation/liberationmonoregular"
	"codeberg.org/go-fonts/liberation/liberationsansbold"
	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"codeberg.org/go-pdf/fpdf"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"
)

// Measures of a report on paper, in points: A4 on its side.
const (
	paperWide = 842
	paperHigh = 595
	paperEdge = 42
	lineHigh  = 13
	sans      = "sans"
	mono      = "mono"
)

// PDF writes the report as a PDF: its text can be selected, its pictures are vectors, pages have numbers,
// and where there are many a page says what is on which.
func (p *Paper) PDF(w io.Writer) error {
	s := &sheet{pdf: fpdf.NewCustom(&fpdf.InitType{UnitStr: "pt", Size: fpdf.SizeType{Wd: paperWide, Ht: paperHigh}})}
	d := s.pdf
	d.SetTitle(glyphs(p.Title), true)
	d.SetCreator("Dim Lantern", true)
	d.AddUTF8FontFromBytes(sans, "", liberationsansregular.TTF)
	d.AddUTF8FontFromBytes(sans, "B", liberationsansbold.TTF)
	d.AddUTF8FontFromBytes(mono, "", liberationmonoregular.TTF)
	d.SetMargins(paperEdge, paperEdge, paperEdge)
	d.SetAutoPageBreak(false, paperEdge)
	d.AliasNbPages("{pages}")
	d.SetFooterFunc(func() {
		s.font(8, pale, "")
		d.SetXY(paperEdge, paperHigh-28)
		d.CellFormat(400, 10, glyphs(p.Title+", "+p.Span), "", 0, "L", false, 0, "")
		d.SetXY(paperWide-paperEdge-120, paperHigh-28)
		d.CellFormat(120, 10, fmt.Sprintf("page %d of {pages}", d.PageNo()), "", 0, "R", false, 0, "")
	})
	d.AddPage()
	s.y = paperEdge
	s.write(20, ink, "B", glyphs(p.Title), 26)
	s.write(10, pale, "", p.Span, 14)
	s.write(10, pale, "", "made "+p.Made+" at "+glyphs(p.Host), 20)
	links := make([]int, len(p.Parts))
	if len(p.Parts) > 3 {
		s.write(12, ink, "B", "Contents", 18)
		for i := range p.Parts {
			links[i] = d.AddLink()
			s.room(lineHigh)
			s.font(10, ink, "")
			d.SetXY(paperEdge, s.y)
			d.CellFormat(paperWide-2*paperEdge, lineHigh, glyphs(p.Parts[i].Title), "", 0, "L", false, links[i], "")
			s.y += lineHigh + 2
		}
		s.page()
	}
	for i := range p.Parts {
		s.part(&p.Parts[i], links[i], i > 0)
	}
	return d.Output(w)
}

// sheet writes on the pages of a report, from top to bottom.
type sheet struct {
	pdf *fpdf.Fpdf
	y   float64
}

func (s *sheet) page() {
	s.pdf.AddPage()
	s.y = paperEdge
}

// room begins a page where there is no room for so much.
func (s *sheet) room(high float64) {
	if s.y+high > paperHigh-paperEdge {
		s.page()
	}
}

func (s *sheet) font(size float64, c color.RGBA, style string) {
	s.pdf.SetFont(sans, style, size)
	s.pdf.SetTextColor(int(c.R), int(c.G), int(c.B))
}

// write writes a text, in as many lines as it needs.
func (s *sheet) write(size float64, c color.RGBA, style, text string, high float64) {
	for _, line := range s.lines(text, size, style, paperWide-2*paperEdge) {
		s.room(high)
		s.font(size, c, style)
		s.pdf.SetXY(paperEdge, s.y)
		s.pdf.CellFormat(paperWide-2*paperEdge, high, line, "", 0, "L", false, 0, "")
		s.y += high
	}
}

// lines breaks a text into lines of a width.
func (s *sheet) lines(text string, size float64, style string, wide float64) []string {
	s.pdf.SetFont(sans, style, size)
	out := s.pdf.SplitText(glyphs(text), wide)
	if len(out) == 0 {
		out = []string{""}
	}
	return out
}

// glyphs is a text with what the fonts have; what lies beyond the basic plane they do not.
func glyphs(s string) string {
	return strings.Map(func(r rune) rune {
		if r > 0xffff {
			return '\uFFFD'
		}
		return r
	}, printable(s))
}

// part writes an answer.
func (s *sheet) part(x *Part, link int, gap bool) {
	need := 60.0
	if x.Picture != nil {
		need += 0.8 * float64(x.Picture.high()) * s.scale() // it can be a little smaller
	}
	if gap {
		s.y += 18
	}
	s.room(min(need, paperHigh-2*paperEdge))
	if link > 0 {
		s.pdf.SetLink(link, s.y, -1)
	}
	s.pdf.Bookmark(glyphs(x.Title), 0, s.y)
	s.write(14, ink, "B", glyphs(x.Title), 20)
	for _, line := range x.Words {
		s.write(9, pale, "", line, 12)
	}
	switch {
	case x.Failed != "":
		s.write(10, ink, "", "No answer: "+x.Failed, lineHigh)
	case x.Empty && len(x.Lists) == 0:
		s.write(10, ink, "", "Nothing.", lineHigh)
	}
	if x.Picture != nil {
		s.picture(x.Picture)
	}
	s.table(x.Table())
	for _, l := range x.Lists {
		s.list(&l)
	}
	if x.Question != "" {
		s.y += 4
		s.write(8, pale, "", x.Question, 11)
	}
	for _, line := range x.Rests {
		s.write(8, pale, "", line, 11)
	}
}

// scale makes a picture as wide as a page has room for.
func (s *sheet) scale() float64 { return (paperWide - 2*paperEdge) / float64(width) }

// picture draws a picture, no higher than a page.
func (s *sheet) picture(n *Numbers) {
	light := *n
	light.Dark = false
	high, scale := float64(light.high()), s.scale()
	s.room(0.8 * high * scale)
	scale = min(scale, (paperHigh-paperEdge-s.y)/high)
	s.pdf.TransformBegin()
	s.pdf.TransformScale(100*scale, 100*scale, paperEdge, s.y)
	light.paint(&onPage{pdf: s.pdf, x: paperEdge, top: s.y, wide: width, high: vg.Length(high)}, glyphs)
	s.pdf.TransformEnd()
	s.pdf.SetFillColor(255, 255, 255) // the page has other colours again than the PDF believes
	s.y += high*scale + 6
}

// table writes a table; its head stands on each page.
func (s *sheet) table(x *Part) {
	if len(x.Rows) == 0 {
		return
	}
	widths := s.widths(x)
	total := 0.0
	for _, w := range widths {
		total += w
	}
	rule := func() {
		s.pdf.SetDrawColor(int(faint.R), int(faint.G), int(faint.B))
		s.pdf.SetLineWidth(0.5)
		s.pdf.Line(paperEdge, s.y, paperEdge+total-8, s.y)
	}
	line := func(cells []string, style string) {
		at := float64(paperEdge)
		s.font(9, ink, style)
		for i, c := range cells {
			align := "L"
			if i < len(x.Right) && x.Right[i] {
				align = "R"
			}
			s.pdf.SetXY(at, s.y)
			s.pdf.CellFormat(widths[i]-8, lineHigh, s.fit(glyphs(c), widths[i]-10), "", 0, align, false, 0, "")
			at += widths[i]
		}
		s.y += lineHigh
		rule()
	}
	s.room(3 * lineHigh)
	line(x.Head, "B")
	for _, row := range x.Rows {
		if s.y+lineHigh > paperHigh-paperEdge {
			s.page()
			line(x.Head, "B")
		}
		line(row, "")
	}
	if x.More > 0 {
		s.write(8, pale, "", fmt.Sprintf("and %d rows more", x.More), 12)
	}
	s.y += 4
}

// widths are how wide columns are: as their cells need, less where that is too much together.
func (s *sheet) widths(x *Part) []float64 {
	widths := make([]float64, len(x.Head))
	look := func(cells []string, style string) {
		s.pdf.SetFont(sans, style, 9)
		for i, c := range cells {
			if len(c) > 400 {
				c = strings.ToValidUTF8(c[:400], "")
			}
			widths[i] = max(widths[i], s.pdf.GetStringWidth(glyphs(c))+14)
		}
	}
	look(x.Head, "B")
	for _, row := range x.Rows {
		look(row, "")
	}
	const room = paperWide - 2*paperEdge
	fair := float64(room)
	for range widths { // those that are narrower than a fair share keep their width, and leave more to the others
		left, wide := float64(room), 0
		for _, w := range widths {
			if w > fair || len(widths) == 1 {
				wide++
			} else {
				left -= w
			}
		}
		if wide == 0 {
			break
		}
		if next := left / float64(wide); next == fair {
			break
		} else {
			fair = next
		}
	}
	total := 0.0
	for _, w := range widths {
		total += w
	}
	for i := range widths {
		if total > room {
			widths[i] = min(widths[i], max(fair, 30))
		}
	}
	return widths
}

// fit shortens a text to a width.
func (s *sheet) fit(text string, wide float64) string {
	if s.pdf.GetStringWidth(text) <= wide {
		return text
	}
	r := []rune(text)
	lo, hi := 0, min(len(r), 600)
	for lo < hi {
		mid := (lo + hi + 1) / 2
		if s.pdf.GetStringWidth(string(r[:mid])+"…") <= wide {
			lo = mid
		} else {
			hi = mid - 1
		}
	}
	return string(r[:lo]) + "…"
}

// list writes lines below a heading, each with a mark of its severity.
func (s *sheet) list(l *List) {
	s.y += 6
	s.room(3 * lineHigh)
	s.write(11, ink, "B", l.Title, 16)
	marks := map[string]color.RGBA{"notice": severity[1], "warning": severity[2], "error": severity[3],
		"critical": severity[4], "over": over}
	for _, x := range l.Lines {
		text := s.lines(x.Text, 10, "", paperWide-2*paperEdge-14)
		more := s.lines(x.More, 8.5, "", paperWide-2*paperEdge-14)
		if x.More == "" {
			more = nil
		}
		high := float64(len(text))*lineHigh + float64(len(more))*11
		s.room(min(high, paperHigh-2*paperEdge))
		c, ok := marks[x.Sort]
		if !ok {
			c = faint
		}
		s.pdf.SetFillColor(int(c.R), int(c.G), int(c.B))
		s.pdf.Rect(paperEdge, s.y+1, 4, min(high, paperHigh-paperEdge-s.y)-2, "F")
		put := func(lines []string, size float64, c color.RGBA, high float64) {
			for _, line := range lines {
				s.room(high)
				s.font(size, c, "")
				s.pdf.SetXY(paperEdge+12, s.y)
				s.pdf.CellFormat(paperWide-2*paperEdge-12, high, line, "", 0, "L", false, 0, "")
				s.y += high
			}
		}
		put(text, 10, ink, lineHigh)
		put(more, 8.5, pale, 11)
		s.y += 5
	}
}

// onPage is a canvas in a part of a page, of which pictures are drawn in vectors.
type onPage struct {
	pdf        *fpdf.Fpdf
	x, top     float64
	wide, high vg.Length
}

// Size is part of vg.CanvasSizer.
func (c *onPage) Size() (w, h vg.Length) { return c.wide, c.high }

func (c *onPage) at(p vg.Point) (x, y float64) {
	return c.x + float64(p.X), c.top + float64(c.high-p.Y)
}

// SetLineWidth is part of vg.Canvas.
func (c *onPage) SetLineWidth(w vg.Length) { c.pdf.SetLineWidth(float64(w)) }

// SetLineDash is part of vg.Canvas.
func (c *onPage) SetLineDash(pattern []vg.Length, offset vg.Length) {
	var dashes []float64
	for _, d := range pattern {
		dashes = append(dashes, float64(d))
	}
	c.pdf.SetDashPattern(dashes, float64(offset))
}

// SetColor is part of vg.Canvas.
func (c *onPage) SetColor(to color.Color) {
	r, g, b, _ := to.RGBA()
	c.pdf.SetFillColor(int(r>>8), int(g>>8), int(b>>8))
	c.pdf.SetDrawColor(int(r>>8), int(g>>8), int(b>>8))
	c.pdf.SetTextColor(int(r>>8), int(g>>8), int(b>>8))
}

// Rotate, Translate, Scale, Push, Pop and DrawImage are parts of vg.Canvas of which pictures of numbers
// need none.
func (c *onPage) Rotate(float64)                      { panic("a picture is not turned") }
func (c *onPage) Translate(vg.Point)                  { panic("a picture is not moved") }
func (c *onPage) Scale(_, _ float64)                  { panic("a picture is not scaled") }
func (c *onPage) Push()                               {}
func (c *onPage) Pop()                                {}
func (c *onPage) DrawImage(vg.Rectangle, image.Image) { panic("a picture has none in it") }

// Stroke is part of vg.Canvas.
func (c *onPage) Stroke(p vg.Path) { c.path(p, "D") }

// Fill is part of vg.Canvas.
func (c *onPage) Fill(p vg.Path) { c.path(p, "F") }

func (c *onPage) path(p vg.Path, style string) {
	for _, x := range p {
		px, py := c.at(x.Pos)
		switch x.Type {
		case vg.MoveComp:
			c.pdf.MoveTo(px, py)
		case vg.LineComp:
			c.pdf.LineTo(px, py)
		case vg.CloseComp:
			c.pdf.ClosePath()
		default:
			panic("a picture has straight lines alone")
		}
	}
	c.pdf.DrawPath(style)
}

// FillString is part of vg.Canvas.
func (c *onPage) FillString(f font.Face, pt vg.Point, text string) {
	c.pdf.SetFont(sans, "", float64(f.Font.Size))
	x, y := c.at(pt)
	c.pdf.Text(x, y, text)
}
