package ledger

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/put"
	"dimlantern/screens/room"

	"github.com/dustin/go-humanize"

	tea "charm.land/bubbletea/v2"
)

// reports is the page of the reports: what came of each last, when it is due, and who gets it.
type reports struct {
	stage  *room.Stage
	list   []api.ReportView
	at     int
	making string // the report that is being made, or told
}

// makePatience is how long making a report may take.
const makePatience = 10 * time.Minute

// askReports opens the page.
func (r *Room) askReports() tea.Cmd {
	p := &reports{stage: r.stage}
	return p.ask(func() { r.stage.Lay(p) })
}

func (p *reports) ask(then func()) tea.Cmd {
	return room.Ask(p.stage, api.AskReports, api.None{}, room.Patience, func(v *api.ReportList, err error) tea.Cmd {
		if !p.stage.Failed(err) {
			p.list, p.at = v.List, min(p.at, max(len(v.List)-1, 0))
			then()
		}
		return nil
	})
}

// Update is part of room.Room.
func (p *reports) Update(msg tea.Msg) tea.Cmd {
	if _, ok := msg.(room.Fresh); ok {
		return p.ask(func() {})
	}
	return nil
}

// Keys is part of room.Room.
func (p *reports) Keys() room.Keys {
	return room.Keys{Where: "choosing reports", Alone: true, List: []room.Key{
		room.Move(10, func(n int) tea.Cmd {
			p.at = max(min(p.at+n, len(p.list)-1), 0)
			return nil
		}).Said("which", "which"),
		room.Do("m enter", p.make).Marked("m").Said("make one now", "make"),
		room.Do("w", p.write).Said("write the last", "write"),
		room.Do("t", p.tell).Said("tell it again", "tell"),
		room.Do("e", p.edit).Said("its text", "text"),
		room.Do("esc q R", p.stage.Back).Marked("esc").Said("back", "back"),
	}}
}

// chosen is the chosen report; nil where there is none.
func (p *reports) chosen() *api.ReportView {
	if p.at >= len(p.list) {
		return nil
	}
	return &p.list[p.at]
}

// do has something done with the chosen report.
func (p *reports) do(q api.ReportQuery, then func(*api.ReportDone)) tea.Cmd {
	p.making = q.Name
	return room.Ask(p.stage, api.DoReport, q, makePatience, func(d *api.ReportDone, err error) tea.Cmd {
		p.making = ""
		if !p.stage.Failed(err) {
			then(d)
		}
		return p.ask(func() {})
	})
}

func (p *reports) make() tea.Cmd {
	r := p.chosen()
	if r == nil || p.making != "" {
		return nil
	}
	return p.do(api.ReportQuery{Name: r.Name, Now: true}, func(d *api.ReportDone) {
		p.stage.Say(r.Name + " was made: " + humanize.IBytes(uint64(d.Result.Size)))
	})
}

func (p *reports) tell() tea.Cmd {
	r := p.chosen()
	switch {
	case r == nil || p.making != "":
		return nil
	case len(r.Tell) == 0:
		p.stage.Say("the report is told nobody: tell CONTACT in its text")
		return nil
	}
	return p.do(api.ReportQuery{Name: r.Name, Tell: true}, func(*api.ReportDone) {
		p.stage.Say(r.Name + " is told again: " + strings.Join(r.Tell, ", "))
	})
}

func (p *reports) edit() tea.Cmd {
	r := p.chosen()
	if r == nil {
		return nil
	}
	p.stage.Back()
	return room.Send(room.OpenText{File: r.File, Line: r.Line})
}

// write asks for a file, and writes the last result in the form that its name says.
func (p *reports) write() tea.Cmd {
	r := p.chosen()
	if r == nil {
		return nil
	}
	i := slices.IndexFunc(r.Results, func(x api.ReportResult) bool { return len(x.Files) > 0 })
	if i < 0 {
		p.stage.Say("nothing was made of " + r.Name + " yet: m makes one")
		return nil
	}
	var forms []string
	for _, f := range r.Results[i].Files {
		forms = append(forms, "."+f.Form)
	}
	p.stage.Prompt(room.Prompt{Label: "write it into", Hint: "by its end: " + strings.Join(forms, " "),
		Then: func(path string) tea.Cmd { return p.writeTo(r.Name, r.Results[i].Due, strings.TrimSpace(path)) }},
		r.Name+forms[0])
	return nil
}

func (p *reports) writeTo(name string, due entry.Instant, path string) tea.Cmd {
	if home, err := os.UserHomeDir(); err == nil && strings.HasPrefix(path, "~/") {
		path = filepath.Join(home, path[2:])
	}
	if abs, err := filepath.Abs(path); err == nil {
		path = abs
	}
	q := api.ReportQuery{Name: name, Due: due, Form: strings.TrimPrefix(filepath.Ext(path), ".")}
	return p.do(q, func(d *api.ReportDone) {
		if _, err := os.Lstat(path); err == nil {
			p.stage.Say(path + " is there already: choose another name")
			return
		}
		if err := os.WriteFile(path, d.Body, 0o644); !p.stage.Failed(err) {
			p.stage.Say("written: " + path)
		}
	})
}

// Draw is part of room.Room.
func (p *reports) Draw(c *paint.Canvas, top, bottom int) {
	pal := p.stage.Palette
	base := paint.Style{Fg: pal.Text}
	dim := base.With(pal.Dim)
	x := c.Put(1, top, base.With(pal.Strong).Strong(), "reports")
	c.Cut(x+2, top, c.W-x-3, dim, "answers put on paper, again and again; they stand in the settings")
	if len(p.list) == 0 {
		c.Put(1, top+2, base, "There is no report yet: R on a question makes one of it.")
		return
	}
	var lines []func(y int)
	from, to := 0, 0
	for i := range p.list {
		if i == p.at {
			from = len(lines)
		}
		lines = append(lines, p.lines(c, &p.list[i], i == p.at, base)...)
		if i == p.at {
			to = len(lines)
		}
	}
	rows := bottom - top - 2
	first := max(min(from, len(lines)-rows), 0)
	first = max(first, min(to-rows, from))
	for i, y := max(first, 0), top+2; i < len(lines) && y < bottom; i, y = i+1, y+1 {
		lines[i](y)
	}
}

// mostResults is how many results are listed of a report.
const mostResults = 5

// lines draw a report.
func (p *reports) lines(c *paint.Canvas, r *api.ReportView, chosen bool, base paint.Style) (out []func(y int)) {
	pal := p.stage.Palette
	dim := base.With(pal.Dim)
	add := func(label, text string, style paint.Style) {
		for n, part := range room.Wrap(text, c.W-15) {
			out = append(out, func(y int) {
				if n == 0 {
					c.Put(3, y, dim, label)
				}
				c.Cut(13, y, c.W-14, style, part)
			})
		}
	}
	out = append(out, func(y int) {
		style := base.Strong()
		if chosen {
			room.Choose(c, 0, y, pal)
			style = base.With(pal.Strong).Strong()
		}
		at := c.Put(1, y, style, r.Name)
		c.Cut(at+2, y, c.W-at-3, dim, r.Title)
	})
	what := strings.Join(r.Asks, ", ") + " as " + strings.Join(r.Forms, ", ")
	if r.Covers != "" {
		what += ", about " + r.Covers
	}
	add("asks", what, base)
	due := "when somebody asks for it"
	switch {
	case r.Off:
		due = "never: it is off"
	case r.Every != "":
		due = fmt.Sprintf("every %s, next %s", r.Every,
			r.Next.Time().Local().Format("Mon 2 Jan 15:04"))
	}
	add("due", due, base)
	to := slices.Clone(r.Tell)
	if r.Write != "" {
		to = append(to, r.Write)
	}
	add("to", strings.Join(to, ", "), base)
	if p.making == r.Name {
		add("now", "it is being made …", base.With(pal.Severity[entry.Notice]))
	}
	if len(r.Results) == 0 {
		add("last", "nothing was made yet", dim)
	}
	for i := range r.Results[:min(len(r.Results), mostResults)] {
		style, label := dim, ""
		if i == 0 {
			style, label = base, "last"
		}
		if r.Results[i].Failed != "" {
			style = base.With(pal.Severity[entry.Warning])
		}
		add(label, r.Results[i].Say(), style)
	}
	return append(out, func(int) {})
}

// report asks for a name, and shows what a report of the question changes in the settings.
func (r *Room) report() tea.Cmd {
	switch {
	case r.empty():
		return r.askReports()
	case r.name == "":
		r.stage.Say("a report asks a question that is kept: ^s keeps this one")
		return nil
	}
	ask := r.name
	return room.Ask(r.stage, api.AskContacts, api.None{}, room.Patience, func(v *api.ContactList, err error) tea.Cmd {
		if r.stage.Failed(err) {
			return nil
		}
		text := "ask " + ask + "\nevery mon at 07:00\ncovers last week\nas html, pdf"
		for _, c := range v.List {
			if !c.Off && slices.ContainsFunc(c.Ways, func(w api.WayTold) bool { return w.Way == "mail" }) {
				text += "\ntell " + c.Name
				break
			}
		}
		r.stage.Prompt(room.Prompt{Label: "a report of it, called", Hint: "enter shows what is written: mondays at " +
			"07:00, of the week before; e in its list changes that", Then: func(name string) tea.Cmd {
			return put.Ask(r.stage, api.PutQuery{Ask: &api.KeptAsk{Kind: "report", Name: strings.TrimSpace(name),
				Text: text}}, put.Told{})
		}}, ask+"-week")
		return nil
	})
}
