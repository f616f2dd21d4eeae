package report

import (
	"encoding/json"
	"io"

	"dimlantern/draw"
)

// WriteJSON writes a report as one JSON object: its parts with their columns and rows, as they are shown.
func WriteJSON(w io.Writer, p *draw.Paper) error {
	type list struct {
		Title string      `json:"title"`
		Lines []draw.Line `json:"lines"`
	}
	type part struct {
		Title    string     `json:"title"`
		Question string     `json:"question,omitempty"`
		Words    []string   `json:"words,omitempty"`
		Failed   string     `json:"failed,omitempty"`
		Columns  []string   `json:"columns,omitempty"`
		Rows     [][]string `json:"rows,omitempty"`
		More     int        `json:"more,omitempty"`
		Lists    []list     `json:"lists,omitempty"`
		Rests    []string   `json:"rests,omitempty"`
		Empty    bool       `json:"empty"`
	}
	out := struct {
		Title string `json:"title"`
		Span  string `json:"span"`
		Host  string `json:"host"`
		Made  string `json:"made"`
		Parts []part `json:"parts"`
	}{p.Title, p.Span, p.Host, p.Made, nil}
	for i := range p.Parts {
		x := &p.Parts[i]
		y := part{Title: x.Title, Question: x.Question, Words: x.Words, Failed: x.Failed, Columns: x.Head, Rows: x.Rows,
			More: x.More, Rests: x.Rests, Empty: x.Empty}
		for _, l := range x.Lists {
			y.Lists = append(y.Lists, list(l))
		}
		out.Parts = append(out.Parts, y)
	}
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	return e.Encode(out)
}
