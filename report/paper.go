package report

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/draw"
	"dimlantern/query"
)

// mostRows is how many rows of a table a report has, mostShown how many stand on its pages.
const (
	mostRows  = 5000
	mostShown = 300
)

// PartOf is an answer to a question as a part of a report.
func PartOf(q *lang.Question, a *query.Asked, err error, zone *time.Location) draw.Part {
	p := draw.Part{Title: cmp.Or(titleOf(q.Note), q.Name), Question: q.String(), Words: q.Words()}
	if err != nil {
		p.Failed = err.Error()
		return p
	}
	t := a.Table(zone, mostRows)
	p.Head, p.Right, p.Rows, p.Bars, p.More = t.Head, t.Right, t.Rows, t.Bars, t.More
	p.Rests = a.Rests(zone)
	p.Page = page(t)
	p.Empty = emptyAnswer(a)
	if n, err := a.Picture(q.Name, zone); err == nil && !p.Empty && n.Bounds != nil {
		n.Title, n.What, n.Question, n.Rests, n.Most = n.What, "", "", nil, groupsDrawn // the part says the rest
		p.Picture, p.Page = n, page(a.Totals())
		if len(p.Page.Head) == len(a.Columns) { // one row, which the picture says as well
			p.Page.Bars = nil
		}
	}
	return p
}

// groupsDrawn is how many groups a picture in a report has: the page has more in its table.
const groupsDrawn = 6

// page is a table as it stands on pages.
func page(t *query.Table) *draw.Part {
	p := &draw.Part{Head: t.Head, Right: t.Right, Rows: t.Rows, Bars: t.Bars, More: t.More}
	if len(p.Rows) > mostShown {
		p.Rows, p.More = p.Rows[:mostShown], p.More+len(p.Rows)-mostShown
	}
	return p
}

// titleOf makes a heading of a note.
func titleOf(note string) string {
	if note == "" || len(note) > 80 || strings.Contains(note, "\n") {
		return ""
	}
	return strings.ToUpper(note[:1]) + note[1:]
}

// emptyAnswer tells whether nothing fitted.
func emptyAnswer(a *query.Asked) bool {
	if a.GapRows() {
		for range a.Rows() {
			return false
		}
		return true
	}
	return a.Fit == 0
}

// HandoverPart is what happened in a stretch of time as a part of a report.
func HandoverPart(s *api.Shift, err error, zone *time.Location) draw.Part {
	p := draw.Part{Title: "Handover"}
	if err != nil {
		p.Failed = err.Error()
		return p
	}
	at := func(t entry.Instant) string { return t.Time().In(zone).Format("2 Jan 15:04") }
	raised := 0
	open, closed := draw.List{Title: "Still open"}, draw.List{Title: "Over"}
	for i := range s.Alerts {
		a := &s.Alerts[i]
		if !a.Before {
			raised++
		}
		who := "nobody has it"
		if a.Taken != "" {
			who = "taken by " + a.Taken
		}
		key := strings.TrimSpace(a.Rule + " " + strings.Join(a.Key, " "))
		dotted := func(list ...string) string { return strings.Join(append(list, a.Notes...), " · ") }
		line := draw.Line{Sort: a.Severity.String(), Text: a.Say,
			More: dotted(a.Severity.String(), key, "since "+at(a.Raised), who)}
		if a.Cleared == entry.None {
			open.Lines = append(open.Lines, line)
			continue
		}
		line.More = dotted(a.Severity.String(), key, at(a.Raised), "lasted "+entry.RoughSpan(a.Cleared.Sub(a.Raised)),
			a.Why)
		closed.Lines = append(closed.Lines, line)
	}
	p.Words = []string{fmt.Sprintf("%s to %s: %s raised, %d open at its end, %d over.", at(s.From), at(s.To),
		english.Plural(raised, "alert was", "alerts were"), len(open.Lines), len(closed.Lines))}
	quiet, done, told, trouble := draw.List{Title: "Kept quiet"}, draw.List{Title: "Done"}, draw.List{Title: "Told"},
		draw.List{Title: "Trouble"}
	for i := range s.Hushes {
		h := &s.Hushes[i]
		quiet.Lines = append(quiet.Lines, draw.Line{Text: h.What + ", " + h.When + ", by " + h.By, More: h.Why})
	}
	for i := range s.Actions {
		a := &s.Actions[i]
		if a.What == "hush" || a.What == "unhush" || a.What == "settings" {
			done.Lines = append(done.Lines, draw.Line{Text: at(a.At) + " " + a.By + ": " + a.What,
				More: strings.TrimSpace(a.Words + " " + a.Did)})
		}
	}
	for i := range s.Told {
		x := &s.Told[i]
		text := fmt.Sprintf("%s: %d told", x.Contact, x.Told)
		if x.Waiting > 0 {
			text += fmt.Sprintf(", %d waiting", x.Waiting)
		}
		if x.Failed > 0 {
			text += fmt.Sprintf(", %d could not be told", x.Failed)
		}
		told.Lines = append(told.Lines, draw.Line{Text: text, More: x.Words})
	}
	for _, words := range s.Trouble {
		trouble.Lines = append(trouble.Lines, draw.Line{Sort: "error", Text: words})
	}
	for _, l := range []draw.List{open, closed, quiet, done, told, trouble} {
		if len(l.Lines) > 0 {
			p.Lists = append(p.Lists, l)
		}
	}
	p.Empty = len(s.Alerts) == 0 && len(done.Lines) == 0
	return p
}
