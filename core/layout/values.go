package layout

import (
	"cmp"
	"math"
	"slices"
	"sort"
	"strconv"

	"dimlantern/core/entry"
)

// Values are the values of one field, counted.
type Values struct {
	Name     string
	Entries  int // that have it
	Distinct int // different values; at least so many where More is set
	More     bool
	Type     string // that all values fit, the narrowest
	Top      []Value
	Numbers  *Numbers // nil where most values are no numbers

	counts  map[string]*Value
	numbers []float64
	every   int
	types   map[string]int
	numeric int
	min     float64
	max     float64
	unit    string
}

// Value is one value of a field.
type Value struct {
	Value string   `json:"value"`
	Count int      `json:"count"`
	Lines []Sample `json:"lines,omitempty"` // some entries that have it
}

// Numbers are what the numbers of a field are together. The quartiles are exact up to
// 100,000 values; of more, each so many-th is looked at.
type Numbers struct {
	Unit      string  `json:"unit,omitempty"` // "ms" of durations
	Min       float64 `json:"min"`
	Q1        float64 `json:"lower_quartile"`
	Median    float64 `json:"median"`
	Q3        float64 `json:"upper_quartile"`
	Max       float64 `json:"max"`
	Histogram []int   `json:"histogram"` // in equal steps from Min to Max
}

// The bounds of values.
const (
	maxDistinct  = 20_000
	maxNumbers   = 100_000
	linesOfValue = 3
	histogram    = 16
)

// Counter counts the values of fields.
type Counter struct {
	Entries int
	fields  map[string]*Values
	order   []string
}

// NewCounter returns a counter that has seen nothing.
func NewCounter() *Counter { return &Counter{fields: map[string]*Values{}} }

// Add takes the fields of an entry.
func (c *Counter) Add(fields []entry.Field, n int, line string) {
	c.Entries++
	for _, f := range fields {
		if f.Value == "" {
			continue
		}
		v := c.fields[f.Name]
		if v == nil {
			if len(c.fields) >= maxFields {
				continue
			}
			v = &Values{Name: f.Name, counts: map[string]*Value{}, every: 1, types: map[string]int{}}
			c.fields[f.Name] = v
			c.order = append(c.order, f.Name)
		}
		v.add(f.Value, n, line)
	}
}

func (v *Values) add(s string, n int, line string) {
	v.Entries++
	x := v.counts[s]
	if x == nil {
		if len(v.counts) >= maxDistinct {
			v.More = true
		} else {
			x = &Value{Value: s}
			v.counts[s] = x
			v.types[narrowest(s)]++
		}
	}
	if x != nil {
		x.Count++
		if len(x.Lines) < linesOfValue && line != "" {
			x.Lines = append(x.Lines, Sample{n, line})
		}
	}
	f, err := strconv.ParseFloat(s, 64)
	if err != nil {
		if d, bad := entry.ParseDuration(s); bad == nil {
			f, err, v.unit = float64(d)/1e6, nil, "ms"
		}
	}
	if err == nil && !math.IsInf(f, 0) && !math.IsNaN(f) {
		if v.numeric == 0 {
			v.min, v.max = f, f
		}
		v.min, v.max = min(v.min, f), max(v.max, f)
		if v.numeric%v.every == 0 {
			if v.numbers = append(v.numbers, f); len(v.numbers) >= maxNumbers {
				kept := v.numbers[:0]
				for i := 0; i < len(v.numbers); i += 2 {
					kept = append(kept, v.numbers[i])
				}
				v.numbers, v.every = kept, v.every*2
			}
		}
		v.numeric++
	}
}

// narrowest is the narrowest type that a value fits.
func narrowest(s string) string {
	if _, ok := integer(s); ok {
		return "integer"
	}
	if len(s) > 64 {
		return "text"
	}
	if _, ok := decimal(s); ok {
		return "decimal"
	}
	if s == "true" || s == "false" {
		return "boolean"
	}
	if _, ok := typed(s, "address", "", nil, 0); ok {
		return "address"
	}
	if _, ok := duration(s, ""); ok {
		return "duration"
	}
	if AnyTime(s) != nil {
		return "time"
	}
	return "text"
}

// Fields are the fields in the order in which they came first, each with its most
// frequent values, at most so many.
func (c *Counter) Fields(top int) []*Values {
	var out []*Values
	for _, n := range c.order {
		out = append(out, c.Field(n, top))
	}
	return out
}

// Field is one field; nil where no entry has it.
func (c *Counter) Field(name string, top int) *Values {
	v := c.fields[name]
	if v == nil {
		return nil
	}
	v.Distinct = len(v.counts)
	v.Top = v.Top[:0]
	for _, x := range v.counts {
		v.Top = append(v.Top, *x)
	}
	sort.Slice(v.Top, func(i, j int) bool {
		return cmp.Or(v.Top[j].Count-v.Top[i].Count, cmp.Compare(v.Top[i].Value, v.Top[j].Value)) < 0
	})
	v.Top = v.Top[:min(len(v.Top), top)]
	v.Type = v.typeOf()
	v.Numbers = nil
	if v.numeric > 0 && v.numeric*2 > v.Entries {
		v.Numbers = v.told()
	}
	return v
}

// typeOf is the narrowest type that all values fit.
func (v *Values) typeOf() string {
	switch types := v.types; {
	case len(types) == 1:
		for t := range types {
			return t
		}
	case len(types) == 2 && types["integer"] > 0 && types["decimal"] > 0:
		return "decimal"
	case len(types) == 2 && types["integer"] > 0 && types["duration"] > 0:
		return "duration"
	}
	return "text"
}

func (v *Values) told() *Numbers {
	s := slices.Clone(v.numbers)
	slices.Sort(s)
	at := func(q float64) float64 { // the smallest value with at least that share at or below it
		return s[max(0, int(math.Ceil(q*float64(len(s))))-1)]
	}
	n := &Numbers{Unit: v.unit, Min: v.min, Q1: at(0.25), Median: at(0.5), Q3: at(0.75), Max: v.max,
		Histogram: make([]int, histogram)}
	for _, x := range s {
		k := 0
		if v.max > v.min {
			k = min(histogram-1, int((x-v.min)/(v.max-v.min)*histogram))
		}
		n.Histogram[k] += v.every
	}
	return n
}
