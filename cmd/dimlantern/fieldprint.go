package main

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"sort"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/mattn/go-runewidth"

	"dimlantern/core/entry"
	"dimlantern/core/layout"
)

// fieldPrinter prints entries in one form.
type fieldPrinter interface {
	// print prints an entry; hidden tells that its text is masked and stands in w.
	print(out *bufio.Writer, w *written, raw []byte, hidden bool) error
	end(out *bufio.Writer) error
}

func (w *written) whole(raw []byte, hidden bool) string {
	if hidden {
		return w.text
	}
	return strings.ToValidUTF8(string(raw), "\uFFFD")
}

func (w *written) misfit() string {
	var all []string
	for _, m := range w.Misfits {
		all = append(all, m.String())
	}
	return strings.Join(all, "; ")
}

// stamp writes instants, and remembers the second that it wrote last.
type stamp struct {
	second int64
	text   []byte
}

func (s *stamp) append(b []byte, at entry.Instant) []byte {
	nanos := int64(at) % 1e9
	second := int64(at) / 1e9
	if nanos < 0 {
		nanos, second = nanos+1e9, second-1
	}
	if s.text == nil || second != s.second {
		s.second = second
		s.text = time.Unix(second, 0).UTC().AppendFormat(s.text[:0], "2006-01-02T15:04:05")
	}
	ms := nanos / 1e6
	b = append(b, s.text...)
	return append(b, '.', byte('0'+ms/100), byte('0'+ms/10%10), byte('0'+ms%10), 'Z')
}

type jsonFields struct {
	only []string
	at   stamp
}

func (p *jsonFields) print(out *bufio.Writer, w *written, raw []byte, hidden bool) error {
	b := append(out.AvailableBuffer(), `{"at":`...)
	if w.at == entry.None {
		b = append(b, "null"...)
	} else {
		b = append(p.at.append(append(b, '"'), w.at), '"')
	}
	if w.Fits {
		b = append(b, `,"fits":true,"fields":{`...)
	} else {
		b = append(b, `,"fits":false,"fields":{`...)
	}
	some := false
	for i := range w.Fields {
		f := &w.Fields[i]
		if f.Value == "" || p.only != nil && !slices.Contains(p.only, f.Name) {
			continue
		}
		if some {
			b = append(b, ',')
		}
		some = true
		b = appendJSON(b, f.Name)
		b = append(b, ':')
		b = appendJSON(b, f.Value)
	}
	b = append(b, '}')
	if p.only == nil {
		b = append(b, `,"text":`...)
		b = appendJSON(b, w.whole(raw, hidden))
	}
	if m := w.misfit(); m != "" {
		b = append(b, `,"misfit":`...)
		b = appendJSON(b, m)
	}
	b = append(b, "}\n"...)
	_, err := out.Write(b)
	return err
}

func (p *jsonFields) end(*bufio.Writer) error { return nil }

// appendJSON writes a text as JSON has it.
func appendJSON(b []byte, s string) []byte {
	for i := range len(s) {
		if c := s[i]; c < ' ' || c == '"' || c == '\\' || c >= utf8.RuneSelf {
			var x bytes.Buffer
			e := json.NewEncoder(&x)
			e.SetEscapeHTML(false)
			e.Encode(s)
			return append(b, bytes.TrimSuffix(x.Bytes(), []byte{'\n'})...)
		}
	}
	return append(append(append(b, '"'), s...), '"')
}

// csvFields prints a header line and a row an entry. Where it is not known which
// fields there are, they are those of the first entries.
type csvFields struct {
	columns []string
	known   bool
	began   bool
	placed  bool
	held    []written
	raws    []string
	late    map[string]bool
	at      stamp
}

// heldBack is how many entries are looked at before the header is written, where the
// layout does not say which fields there are.
const heldBack = 20_000

func (p *csvFields) print(out *bufio.Writer, w *written, raw []byte, hidden bool) error {
	if p.known || p.began {
		if err := p.begin(out); err != nil {
			return err
		}
		return p.row(out, w, raw, hidden)
	}
	x := *w
	x.Fields = slices.Clone(w.Fields)
	p.held = append(p.held, x)
	p.raws = append(p.raws, w.whole(raw, hidden))
	for _, f := range w.Fields {
		if !slices.Contains(p.columns, f.Name) {
			p.columns = append(p.columns, f.Name)
		}
	}
	if len(p.held) < heldBack {
		return nil
	}
	return p.flush(out)
}

func (p *csvFields) flush(out *bufio.Writer) error {
	err := p.begin(out)
	for i := range p.held {
		if err == nil {
			p.held[i].text = p.raws[i]
			err = p.row(out, &p.held[i], nil, true)
		}
	}
	p.held, p.raws = nil, nil
	return err
}

func (p *csvFields) begin(out *bufio.Writer) error {
	if p.began {
		return nil
	}
	p.began = true
	b := append(out.AvailableBuffer(), "entry-time"...)
	for _, c := range p.columns {
		b = appendCSV(append(b, ','), c)
	}
	b = append(b, ",misfit,entry\r\n"...)
	_, err := out.Write(b)
	return err
}

func (p *csvFields) row(out *bufio.Writer, w *written, raw []byte, hidden bool) error {
	b := out.AvailableBuffer()
	if w.at != entry.None {
		b = p.at.append(b, w.at)
	}
	used := 0
	for k, c := range p.columns {
		b = append(b, ',')
		if k < len(w.Fields) && w.Fields[k].Name == c { // they mostly come in that order
			if !p.placed {
				p.columns[k] = w.Fields[k].Name // of one place in memory they are compared at once
			}
			b = appendCSV(b, w.Fields[k].Value)
			used++
			continue
		}
		for i := range w.Fields {
			if w.Fields[i].Name == c {
				b = appendCSV(b, w.Fields[i].Value)
				used++
				break
			}
		}
	}
	p.placed = true
	if used < len(w.Fields) {
		p.missed(w)
	}
	b = append(b, ',')
	if len(w.Misfits) > 0 {
		b = appendCSV(b, w.misfit())
	}
	b = append(b, ',')
	if !w.Fits || len(w.Fields) == 0 {
		b = appendCSV(b, w.whole(raw, hidden))
	}
	b = append(b, "\r\n"...)
	_, err := out.Write(b)
	return err
}

// missed notes fields that came too late for a column.
func (p *csvFields) missed(w *written) {
	if p.known {
		return
	}
	for _, f := range w.Fields {
		if f.Value != "" && !slices.Contains(p.columns, f.Name) && len(p.late) < 100 {
			if p.late == nil {
				p.late = map[string]bool{}
			}
			p.late[f.Name] = true
		}
	}
}

func (p *csvFields) end(out *bufio.Writer) error {
	if err := p.flush(out); err != nil {
		return err
	}
	if len(p.late) > 0 {
		var names []string
		for n := range p.late {
			names = append(names, n)
		}
		sort.Strings(names)
		fmt.Fprintf(os.Stderr, "dimlantern: these fields came first behind %s entries, and have no column: %s; "+
			"--json prints all\n", thousands(heldBack), strings.Join(names, ", "))
	}
	return nil
}

// appendCSV writes a cell, RFC 4180.
func appendCSV(b []byte, s string) []byte {
	at := len(b)
	b = append(b, s...)
	if plainCell(b[at:]) {
		return b
	}
	b = append(b[:at], '"')
	for i := range len(s) {
		if s[i] == '"' {
			b = append(b, '"')
		}
		b = append(b, s[i])
	}
	return append(b, '"')
}

// plainCell tells whether a cell holds no comma, quote or control character, which
// need quotes around it. It looks at eight bytes at a time.
func plainCell(cell []byte) bool {
	const ones, tops = 0x0101010101010101, 0x8080808080808080
	for len(cell) >= 8 {
		x := binary.LittleEndian.Uint64(cell)
		comma, quote := x^(ones*','), x^(ones*'"')
		// The top bit of a byte is set where it is zero, or below a blank; a wrong alarm
		// costs a second look, never an answer.
		if ((x-ones*' ')&^x|(comma-ones)&^comma|(quote-ones)&^quote)&tops != 0 && !plainBytes(cell[:8]) {
			return false
		}
		cell = cell[8:]
	}
	return plainBytes(cell)
}

func plainBytes(cell []byte) bool {
	for _, c := range cell {
		if quoted[c] {
			return false
		}
	}
	return true
}

// quoted are the bytes that a cell has only within quotes.
var quoted = func() (t [256]bool) {
	for c := range byte(' ') {
		t[c] = true
	}
	t[','], t['"'] = true, true
	return t
}()

// tableFields prints a table for people. Its columns are as wide as the first entries
// need.
type tableFields struct {
	columns []string
	narrow  bool // only misfits: their reasons come first
	rows    [][]string
	widths  []int
	began   bool
	open    bool
}

// The bounds of a table: how many entries decide on its columns, and how wide one is.
const (
	firstRows = 500
	cellWidth = 48
)

func (p *tableFields) print(out *bufio.Writer, w *written, raw []byte, hidden bool) error {
	if p.open && !p.began {
		for _, f := range w.Fields {
			if !slices.Contains(p.columns, f.Name) {
				p.columns = append(p.columns, f.Name)
			}
		}
	}
	at := "-"
	if w.at != entry.None {
		at = time.Unix(0, int64(w.at)).Format("2006-01-02 15:04:05.000")
	}
	row := []string{at}
	if p.narrow || !w.Fits {
		row = append(row, "\x00"+w.misfit(), w.whole(raw, hidden))
	} else if len(w.Fields) == 0 {
		row = append(row, "\x00", w.whole(raw, hidden))
	} else {
		for _, c := range p.columns {
			v := ""
			for i := range w.Fields {
				if w.Fields[i].Name == c {
					v = w.Fields[i].Value
					break
				}
			}
			row = append(row, v)
		}
	}
	if p.began {
		return p.row(out, row)
	}
	if p.rows = append(p.rows, row); len(p.rows) < firstRows {
		return nil
	}
	return p.begin(out)
}

func (p *tableFields) begin(out *bufio.Writer) error {
	p.began = true
	head := append([]string{"time"}, p.columns...)
	if p.narrow {
		head = []string{"time", "\x00why", "entry"}
	}
	p.widths = make([]int, len(p.columns)+1)
	for _, row := range append([][]string{head}, p.rows...) {
		for i, v := range row {
			if i < len(p.widths) && (len(row) == 1 || !strings.HasPrefix(row[1], "\x00") || i == 0) {
				p.widths[i] = min(cellWidth, max(p.widths[i], runewidth.StringWidth(shown(v))))
			}
		}
	}
	if err := p.row(out, head); err != nil {
		return err
	}
	for _, row := range p.rows {
		if err := p.row(out, row); err != nil {
			return err
		}
	}
	p.rows = nil
	return nil
}

func (p *tableFields) row(out *bufio.Writer, row []string) error {
	if len(row) > 1 && strings.HasPrefix(row[1], "\x00") {
		why := row[1][1:]
		if why != "" {
			why += "  "
		}
		_, err := fmt.Fprintf(out, "%-*s  %s%s\n", p.widths[0], row[0], shown(why), shown(row[2]))
		return err
	}
	for i, v := range row {
		if v = shown(v); i+1 < len(row) {
			v = runewidth.FillRight(runewidth.Truncate(v, p.widths[min(i, len(p.widths)-1)], "…"),
				cmp.Or(p.widths[min(i, len(p.widths)-1)], 1)) + "  "
		}
		if _, err := out.WriteString(v); err != nil {
			return err
		}
	}
	return out.WriteByte('\n')
}

func (p *tableFields) end(out *bufio.Writer) error {
	if p.began {
		return nil
	}
	return p.begin(out)
}

// valueFields counts the values of fields.
type valueFields struct {
	counter *layout.Counter
	asJSON  bool
	only    []string
}

func (p *valueFields) print(_ *bufio.Writer, w *written, raw []byte, hidden bool) error {
	line := ""
	if len(raw) < 400 {
		line = w.whole(raw, hidden)
	}
	p.counter.Add(w.Fields, p.counter.Entries, line)
	return nil
}

// topValues is how many values of a field are printed.
const topValues = 10

func (p *valueFields) end(out *bufio.Writer) error {
	for _, v := range p.counter.Fields(1 << 20) {
		if p.only != nil && !slices.Contains(p.only, v.Name) {
			continue
		}
		top := v.Top[:min(len(v.Top), topValues)]
		rare := v.Top[max(len(top), len(v.Top)-3):]
		for i := range top {
			top[i].Lines = nil
		}
		if p.asJSON {
			b, err := json.Marshal(map[string]any{"field": v.Name, "type": v.Type, "entries": v.Entries,
				"of": p.counter.Entries, "distinct": v.Distinct, "more": v.More, "top": top, "rare": rare,
				"numbers": v.Numbers})
			if err != nil {
				return err
			}
			out.Write(append(b, '\n'))
			continue
		}
		more := ""
		if v.More {
			more = " and more"
		}
		fmt.Fprintf(out, "%s: %s, in %s of %s entries, %s different%s\n", v.Name, v.Type, thousands(v.Entries),
			thousands(p.counter.Entries), thousands(v.Distinct), more)
		if n := v.Numbers; n != nil {
			fmt.Fprintf(out, "    from %.6g to %.6g %s; quartiles %.6g, %.6g, %.6g\n", n.Min, n.Max, n.Unit, n.Q1,
				n.Median, n.Q3)
		}
		if top[0].Count == 1 && v.Distinct > topValues {
			fmt.Fprintf(out, "    each once, such as %s\n", runewidth.Truncate(shown(top[0].Value), 100, "…"))
			continue
		}
		for _, x := range top {
			fmt.Fprintf(out, "    %8s  %5.1f %%  %s\n", thousands(x.Count), 100*float64(x.Count)/float64(v.Entries),
				runewidth.Truncate(shown(x.Value), 100, "…"))
		}
		for _, x := range rare {
			if len(x.Lines) > 0 {
				fmt.Fprintf(out, "    rare: %s, in: %s\n", shown(x.Value),
					runewidth.Truncate(shown(x.Lines[0].Text), 120, "…"))
			}
		}
	}
	return nil
}
