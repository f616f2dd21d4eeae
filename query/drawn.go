package query

import (
	"cmp"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"dimlantern/core/ask"
	"dimlantern/core/entry"
	"dimlantern/draw"
)

// Draw draws the answer's first number, as "svg" or "pdf".
func (a *Asked) Draw(to io.Writer, form, title string, dark bool, zone *time.Location) error {
	n, err := a.Picture(title, zone)
	if err != nil {
		return err
	}
	n.Dark = dark
	if form == "pdf" {
		return n.PDF(to)
	}
	return n.SVG(to)
}

// Picture is the picture of the answer's first number. Entries have none.
func (a *Asked) Picture(title string, zone *time.Location) (*draw.Numbers, error) {
	p := a.Plan
	if len(a.Columns) == 0 || a.Columns[0] == "entries" {
		return nil, fmt.Errorf("entries are no numbers that could be drawn: show count, or another number")
	}
	if title == "" || title == "?" {
		title = a.Columns[0]
		if per := p.Per(); len(per) > 0 {
			title += " per " + strings.Join(per, ", ")
		}
	}
	n := &draw.Numbers{Title: title, Question: strings.Join(p.Q.Clauses(), " "), From: p.Span.From, To: p.Span.To,
		Zone: zone, Bounds: p.Span.Bounds, Rests: a.Rests(zone)}
	n.What = a.Columns[0]
	switch unit := p.Unit(0); unit {
	case "duration":
		n.What += ", as durations"
	case "share":
		n.What += ", in percent"
	case "rate":
		n.What += ", entries a second"
	}
	if p.Q.Every != nil {
		n.What += ", every " + p.Q.Every.String()
	}
	if p.Q.Beside != nil {
		n.Beside = p.Q.Beside.String()
	}
	n.Shown = func(f float64) string {
		return p.Shown(ask.Value{Text: strconv.FormatFloat(f, 'f', -1, 64), Number: true}, 0)
	}
	for _, d := range a.Blind {
		until := d.Until
		if until == entry.None {
			until = p.Span.To
		}
		n.Unseen = append(n.Unseen, draw.Unseen{From: d.Since, To: until})
	}
	if a.Kept != entry.None {
		n.Unseen = append(n.Unseen, draw.Unseen{From: p.Span.From, To: a.Kept})
	}
	for i := range a.Groups {
		g := &a.Groups[i]
		r := draw.NumberRow{Rest: g.Rest, Value: floatOf(g.Values, 0), Beside: floatOf(g.Beside, 0)}
		var names []string
		for _, k := range g.Per {
			names = append(names, ask.Written(k))
		}
		r.Name = cmp.Or(strings.Join(names, " "), "all")
		if g.Rest {
			r.Name = fmt.Sprintf("all others, %d", g.Of)
		}
		for _, row := range g.Series {
			r.Series = append(r.Series, floatOf(row, 0))
		}
		for _, row := range g.BesideSeries {
			r.Besides = append(r.Besides, floatOf(row, 0))
		}
		n.Groups = append(n.Groups, r)
	}
	return n, nil
}

func floatOf(values []ask.Value, i int) *float64 {
	if i >= len(values) {
		return nil
	}
	if f, ok := values[i].Float(); ok {
		return &f
	}
	return nil
}
