package measure

import (
	"bytes"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Type is what a family's numbers are, by OpenMetrics 1.0, section "Metric Types".
type Type string

// The types that are written.
const (
	Counter   Type = "counter"
	Gauge     Type = "gauge"
	Histogram Type = "histogram"
)

// Family is some numbers of one name, by OpenMetrics 1.0, "MetricFamily".
type Family struct {
	Name   string // without the suffixes of its type
	Type   Type
	Unit   string // "seconds" or "bytes", where the name ends so; else ""
	Help   string
	Labels []string // names
	Points []Point
}

// Point is the numbers of a family for one set of labels.
type Point struct {
	Labels  []string // values; a label that is "" is not written
	Value   float64  // of a counter or gauge
	Buckets []Bucket // of a histogram
	Sum     float64
	Count   int64
	Began   entry.Instant // since when it is counted; 0 is not said
	Example Exemplar      // of a counter; Where is "" of none
}

// Bucket is how many values are no greater than a bound.
type Bucket struct {
	Most    float64 // +Inf of the last
	Count   int64   // cumulative
	Example Exemplar
}

// Families are measures as other systems know them.
func Families(list []Counted) []Family {
	var out []Family
	left := Family{Name: "dimlantern_measure_left_out", Type: Counter, Labels: []string{"measure", "why"},
		Help: "Entries that a measure left out since their number is none, or is negative"}
	for _, c := range list {
		m := c.Of
		f := Family{Name: m.OutNames()[0], Help: m.Note, Type: Type(KindOf(m))}
		if f.Help == "" {
			f.Help = describe(m)
		}
		for _, unit := range []string{"seconds", "bytes"} {
			if strings.HasSuffix(f.Name, "_"+unit) {
				f.Unit = unit
			}
		}
		for _, p := range m.Per {
			f.Labels = append(f.Labels, lang.OutName(p))
		}
		none, negative := int64(0), int64(0)
		for i := range c.Series {
			s := &c.Series[i]
			none, negative = none+s.NoNumber, negative+s.Negative
			if s.Count == 0 && m.Fn == "last" {
				continue
			}
			f.Points = append(f.Points, point(m, s))
		}
		if none > 0 {
			left.Points = append(left.Points, Point{Labels: []string{m.Name, "no number"}, Value: float64(none)})
		}
		if negative > 0 {
			left.Points = append(left.Points, Point{Labels: []string{m.Name, "negative"}, Value: float64(negative)})
		}
		out = append(out, f)
	}
	if len(left.Points) > 0 {
		out = append(out, left)
	}
	return out
}

// KindOf is the type of a measure's numbers.
func KindOf(m *lang.Measure) string {
	switch m.Fn {
	case "last":
		return string(Gauge)
	case "spread":
		return string(Histogram)
	}
	return string(Counter)
}

// describe says what a measure is, where its note does not.
func describe(m *lang.Measure) string {
	s := m.Shown()
	if m.Where != nil {
		s += " where " + m.Where.String()
	}
	if len(m.On) > 0 {
		s += " on " + strings.Join(m.On, ", ")
	}
	return s
}

func point(m *lang.Measure, s *Series) Point {
	p := Point{Labels: s.Labels, Began: s.Began, Count: s.Count, Sum: s.Total()}
	switch m.Fn {
	case "count":
		p.Value, p.Example = float64(s.Count), s.Exemplars[0]
	case "sum":
		p.Value, p.Example = s.Total(), s.Exemplars[0]
	case "last":
		p.Value, p.Began = s.Last, 0
	case "spread":
		n := int64(0)
		for i, c := range s.Buckets {
			n += c
			most := math.Inf(1)
			if i < len(m.Bounds) {
				most = m.Bounds[i]
			}
			p.Buckets = append(p.Buckets, Bucket{most, n, s.Exemplars[i]})
		}
	}
	return p
}

// ContentType is that of what Write writes.
const ContentType = "application/openmetrics-text; version=1.0.0; charset=utf-8"

// Write writes families as text of OpenMetrics 1.0, with the end that says that it is whole.
func Write(to io.Writer, families []Family) error {
	w := &bytes.Buffer{}
	families = slices.Clone(families)
	slices.SortStableFunc(families, func(a, b Family) int { return strings.Compare(a.Name, b.Name) })
	for i := range families {
		families[i].write(w)
	}
	w.WriteString("# EOF\n")
	_, err := w.WriteTo(to)
	return err
}

func (f *Family) write(w *bytes.Buffer) {
	w.WriteString("# TYPE " + f.Name + " " + string(f.Type) + "\n")
	if f.Unit != "" {
		w.WriteString("# UNIT " + f.Name + " " + f.Unit + "\n")
	}
	if f.Help != "" {
		w.WriteString("# HELP " + f.Name + " " + escaped(f.Help) + "\n")
	}
	for i := range f.Points {
		p := &f.Points[i]
		switch f.Type {
		case Counter:
			f.sample(w, "_total", p, "", p.Value, &p.Example)
		case Gauge:
			f.sample(w, "", p, "", p.Value, nil)
		case Histogram:
			for j := range p.Buckets {
				b := &p.Buckets[j]
				f.sample(w, "_bucket", p, bound(b.Most), float64(b.Count), &b.Example)
			}
			f.sample(w, "_sum", p, "", p.Sum, nil)
			f.sample(w, "_count", p, "", float64(p.Count), nil)
		}
		if p.Began != 0 && f.Type != Gauge {
			f.sample(w, "_created", p, "", math.NaN(), nil)
		}
	}
}

// sample writes a line. A value that is not a number is when the point began.
func (f *Family) sample(w *bytes.Buffer, suffix string, p *Point, le string, value float64, example *Exemplar) {
	w.WriteString(f.Name + suffix)
	sep := byte('{')
	label := func(name, value string) {
		w.WriteByte(sep)
		w.WriteString(name + `="` + escaped(value) + `"`)
		sep = ','
	}
	for i, name := range f.Labels {
		if i < len(p.Labels) && p.Labels[i] != "" {
			label(name, p.Labels[i])
		}
	}
	if le != "" {
		label("le", le)
	}
	if sep == ',' {
		w.WriteByte('}')
	}
	w.WriteByte(' ')
	if math.IsNaN(value) && suffix == "_created" {
		w.WriteString(stamp(p.Began))
	} else {
		w.WriteString(written(value))
	}
	if example != nil && example.Where != "" && utf8.RuneCountInString("entry"+example.Where) <= mostExemplar {
		w.WriteString(
			` # {entry="` + escaped(example.Where) + `"} ` + written(example.Value) + " " + stamp(example.At),
		)
	}
	w.WriteByte('\n')
}

// mostExemplar is how many characters the labels of an exemplar have at most (OpenMetrics 1.0, "Exemplars").
const mostExemplar = 128

// written writes a number as OpenMetrics has it.
func written(f float64) string {
	switch {
	case math.IsInf(f, 1):
		return "+Inf"
	case math.IsInf(f, -1):
		return "-Inf"
	case math.IsNaN(f):
		return "NaN"
	case f == math.Trunc(f) && math.Abs(f) < 1e15:
		return strconv.FormatFloat(f, 'f', -1, 64)
	}
	return strconv.FormatFloat(f, 'g', -1, 64)
}

// bound writes a bound of a bucket: a number with a point, or +Inf ("Considerations: Canonical Numbers").
func bound(f float64) string {
	s := written(f)
	if strings.ContainsAny(s, ".eI") {
		return s
	}
	return s + ".0"
}

// stamp writes a time as seconds since 1970 with milliseconds.
func stamp(at entry.Instant) string { return strconv.FormatFloat(float64(at/1e6)/1e3, 'f', 3, 64) }

var escapes = strings.NewReplacer("\\", `\\`, "\n", `\n`, `"`, `\"`)

// escaped is a text with what the format cannot hold written otherwise.
func escaped(s string) string {
	if !utf8.ValidString(s) {
		s = strings.ToValidUTF8(s, "\uFFFD")
	}
	return escapes.Replace(s)
}
