package query

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"dimlantern/core/ask"
	"dimlantern/core/entry"
)

// WriteJSON writes the rows of an answer, one object a line.
func (a *Asked) WriteJSON(to io.Writer) error {
	out := bufio.NewWriterSize(to, 64<<10)
	p := a.Plan
	for r := range a.Rows() {
		var b []byte
		add := func(name string) {
			if len(b) > 0 {
				b = append(b, ',')
			}
			b = append(appendJSON(b, name), ':')
		}
		if r.At != entry.None {
			add("at")
			b = appendJSON(b, r.At.String())
		}
		if r.Entry != nil {
			b = appendEntry(b, r.Entry)
		}
		if names := p.Per(); len(names) > 0 && !r.Rest {
			add("per")
			b = append(b, '{')
			for i, n := range names {
				if i > 0 {
					b = append(b, ',')
				}
				b = appendJSON(append(appendJSON(b, n), ':'), ask.Written(r.Per[i]))
			}
			b = append(b, '}')
		}
		if r.Gap != nil {
			add("began")
			b = appendJSON(b, r.Gap.From.String())
			add("ended")
			b = appendJSON(b, r.Gap.To.String())
			add("lasted")
			b = append(b, seconds(r.Gap.To.Sub(r.Gap.From))...)
		}
		var about []string
		b, about = a.appendValues(b, r, r.Values, true)
		if r.Beside != nil {
			for i, list := range [][]ask.Value{r.Beside, r.Difference} {
				var in []byte
				in, _ = a.appendValues(in, r, list, false)
				add([]string{"beside", "difference"}[i])
				b = append(append(append(b, '{'), in...), '}')
			}
		}
		if r.Rest {
			add("rest")
			b = append(b, "true"...)
		}
		if r.Cut {
			add("cut")
			b = append(b, "true"...)
		}
		if len(about) > 0 {
			add("≈")
			x, _ := json.Marshal(about)
			b = append(b, x...)
		}
		out.WriteByte('{')
		out.Write(b)
		if _, err := out.WriteString("}\n"); err != nil {
			return err
		}
	}
	return out.Flush()
}

// appendValues appends the values of a row that has some, and names those that come of a sketch.
func (a *Asked) appendValues(b []byte, r *ask.Row, values []ask.Value, gaps bool) (out []byte, about []string) {
	if r.Entry != nil || r.Gap != nil {
		return b, nil
	}
	add := func(name string) {
		if len(b) > 0 {
			b = append(b, ',')
		}
		b = append(appendJSON(b, name), ':')
	}
	for i, name := range a.Columns {
		if strings.HasPrefix(name, "gaps ") {
			if gaps {
				add("gaps")
				b = strconv.AppendInt(b, int64(r.Gaps), 10)
				if r.Gaps > 0 {
					add("longest")
					b = append(b, seconds(r.Longest)...)
				}
			}
			continue
		}
		if i >= len(values) || values[i].Text == "" {
			continue
		}
		add(name)
		if v := values[i]; v.Number {
			b = append(b, v.Text...)
		} else {
			b = appendJSON(b, v.Text)
		}
		if values[i].Approx {
			about = append(about, name)
		}
	}
	return b, about
}

// seconds writes a duration in seconds.
func seconds(d time.Duration) string { return strconv.FormatFloat(d.Seconds(), 'f', -1, 64) }

// appendEntry appends an entry as it is written elsewhere: its time, its fields, its text.
func appendEntry(b []byte, e *ask.Entry) []byte {
	b = append(b, `"at":`...)
	if e.At == entry.None {
		b = append(b, "null"...)
	} else {
		b = appendJSON(b, e.At.String())
	}
	b = append(b, `,"fits":`...)
	b = strconv.AppendBool(b, e.Fits)
	b = append(b, `,"fields":{`...)
	some := false
	for _, f := range e.Fields {
		if f.Value == "" {
			continue
		}
		if some {
			b = append(b, ',')
		}
		some = true
		b = appendJSON(append(appendJSON(b, f.Name), ':'), f.Value)
	}
	return appendJSON(append(b, `},"text":`...), e.Raw)
}

func appendJSON(b []byte, s string) []byte {
	var x bytes.Buffer
	e := json.NewEncoder(&x)
	e.SetEscapeHTML(false)
	e.Encode(s) // a text can always be written
	return append(b, bytes.TrimSuffix(x.Bytes(), []byte{'\n'})...)
}

// WriteBasis writes what the answer rests on, as one JSON object. What is empty is absent.
func (a *Asked) WriteBasis(to io.Writer) error {
	x := map[string]any{"looked": a.Looked, "fit": a.Fit, "read": a.Bytes, "of": a.Of}
	if len(a.NoNumber) > 0 {
		x["no-number"] = a.NoNumber
	}
	if a.Pending > 0 {
		x["pending"] = a.Pending
	}
	var blind []map[string]string
	for _, d := range a.Blind {
		one := map[string]string{"origin": d.Origin, "from": d.Since.String(), "words": d.Words}
		if d.Until != entry.None {
			one["to"] = d.Until.String()
		}
		blind = append(blind, one)
	}
	if blind != nil {
		x["blind"] = blind
	}
	if a.Kept != entry.None {
		x["before-kept"] = a.Kept.String()
	}
	if a.EmptiedBy != "" {
		x["emptied-by"] = a.EmptiedBy
	}
	if len(a.Twice) > 0 {
		x["twice"] = a.Twice
	}
	if len(a.Untimed) > 0 {
		x["untimed"] = sorted(a.Untimed)
	}
	if len(a.Unread) > 0 {
		x["unread"] = a.Unread
	}
	if a.TooMany > 0 {
		x["too-many-groups"] = a.TooMany
	}
	if a.Dropped > 0 {
		x["left-out"] = a.Dropped
	}
	if a.TooMuch {
		x["too-much"] = true
	}
	e := json.NewEncoder(to)
	e.SetEscapeHTML(false)
	return e.Encode(x)
}

// Cell is a text as a cell of CSV: where a table would take it for a formula, a ' stands before it.
func Cell(s string) string {
	if s == "" || !strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return s
	}
	if _, ok := entry.ParseNumber(s); ok {
		return s
	}
	return "'" + s
}

// mostFields is how many columns a table of entries has at most.
const mostFields = 200

// FieldNames adds the names of the fields of the answer's entries to some that are known, in the order in
// which they come.
func (a *Asked) FieldNames(known []string) []string {
	for i := range a.Entries {
		for _, f := range a.Entries[i].Fields {
			if f.Name != "at" && f.Name != "text" && len(known) < mostFields && !slices.Contains(known, f.Name) {
				known = append(known, f.Name)
			}
		}
	}
	return known
}

// WriteCSV writes the answer as comma-separated values (RFC 4180) with a header line.
func (a *Asked) WriteCSV(to io.Writer) error { return a.WriteTable(to, a.FieldNames(nil), true) }

// WriteTable is WriteCSV with some fields of entries as columns, and with a header line or without one.
func (a *Asked) WriteTable(to io.Writer, fields []string, headed bool) error {
	out := csv.NewWriter(to)
	p := a.Plan
	var head []string
	entries := len(p.Q.Show) == 0 || p.Q.Show[0].Fn == "entries"
	gapRows := a.GapRows()
	if entries || p.Span.Bounds != nil {
		head = append(head, "at")
	}
	if entries {
		head = append(append(head, fields...), "text")
	} else {
		head = append(head, p.Per()...)
	}
	switch {
	case gapRows:
		head = append(head, "began", "ended", "lasted")
	case !entries:
		for _, before := range []string{"", "beside ", "difference "} {
			if before != "" && p.Beside == nil {
				continue
			}
			for _, c := range a.Columns {
				if strings.HasPrefix(c, "gaps ") {
					if before == "" {
						head = append(head, "gaps", "longest")
					}
					continue
				}
				head = append(head, before+c)
			}
		}
	}
	for i := range head {
		head[i] = Cell(head[i])
	}
	if headed {
		out.Write(head)
	}
	for r := range a.Rows() {
		var cells []string
		if r.At != entry.None {
			cells = append(cells, r.At.String())
		}
		if r.Entry != nil {
			cells = append(cells, r.Entry.At.String())
			for _, name := range fields {
				v, _ := r.Entry.Get(name)
				cells = append(cells, v)
			}
			cells = append(cells, r.Entry.Raw)
		} else {
			for i := range p.Per() {
				switch {
				case r.Rest && i == 0:
					cells = append(cells, "all others")
				case r.Rest:
					cells = append(cells, "")
				default:
					cells = append(cells, ask.Written(r.Per[i]))
				}
			}
		}
		if r.Gap != nil {
			cells = append(cells, r.Gap.From.String(), r.Gap.To.String(), seconds(r.Gap.To.Sub(r.Gap.From)))
		}
		if r.Entry == nil && r.Gap == nil {
			lists := [][]ask.Value{r.Values}
			if p.Beside != nil {
				lists = append(lists, r.Beside, r.Difference)
			}
			for k, list := range lists {
				for i, c := range a.Columns {
					switch {
					case strings.HasPrefix(c, "gaps ") && k == 0:
						cells = append(cells, strconv.Itoa(r.Gaps), seconds(r.Longest))
					case strings.HasPrefix(c, "gaps "):
					case i < len(list):
						cells = append(cells, list[i].Text)
					default:
						cells = append(cells, "")
					}
				}
			}
		}
		for i := range cells {
			cells[i] = Cell(cells[i])
		}
		if err := out.Write(cells); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}
