package layout

import (
	"strings"

	"dimlantern/core/entry"
)

// ShapeText is what the shape of an entry is made of: its text, where the layout gives one; of
// columns, and of formats in which every entry names its fields, the fields that are words;
// else the whole entry.
func (l *Layout) ShapeText(fits bool, of []entry.Field, raw string) string {
	if !fits {
		return raw
	}
	if text := fields(of).get("text"); text != "" {
		return text
	}
	if l.columns == nil && (l.format == nil || l.name == "clf" || l.name == "combined") {
		return raw
	}
	var words []string
	for _, f := range of {
		if ofWords(f.Value) && !l.holdsTime(f.Name) {
			words = append(words, f.Value)
		}
	}
	if len(words) == 0 {
		return raw
	}
	return strings.Join(words, " ")
}

// holdsTime tells whether a field is the entry's time.
func (l *Layout) holdsTime(name string) bool {
	for _, f := range l.timeIn {
		if f == name {
			return true
		}
	}
	return len(l.timeIn) == 0 && timeRank(name) >= 0
}

// ofWords tells whether a value is made of words: letters and blanks are most of it.
func ofWords(v string) bool {
	n := 0
	for i := range len(v) {
		if wordByte[v[i]] || v[i] == ' ' {
			n++
		}
	}
	return len(v) > 1 && 2*n > len(v)
}

// EntryShaper groups the entries of a source by their shapes. It is not for several goroutines
// at once.
type EntryShaper struct {
	*Shaper
	divider Divider
	divided bool
	v       Division
}

// NewEntryShaper returns one that has seen nothing. The layout is its own from now on: of its
// fields it gives no more than shapes need.
func NewEntryShaper(l *Layout) *EntryShaper {
	s := &EntryShaper{Shaper: NewShaper(), divider: Divider{Layout: l, Reuse: true}}
	s.divided = l.Divides()
	for _, p := range l.patterns {
		for _, n := range p.names {
			if n == "text" {
				l.Narrow([]string{"text"})
			}
		}
	}
	return s
}

// Text is what the shape of an entry is made of that was divided already.
func (s *EntryShaper) Text(fits bool, of []entry.Field, raw string) string {
	return s.divider.Layout.ShapeText(fits, of, raw)
}

// Add takes the next entry, as it is without what was kept with it, and returns its shape as
// it is now.
func (s *EntryShaper) Add(entry []byte) *Shape {
	if !s.divided || s.divider.Layout.Headed() && s.divider.See(entry) {
		return s.Shaper.Add(entry)
	}
	s.divider.DivideInto(&s.v, entry, 0)
	if !s.v.Fits {
		return s.Shaper.Add(entry)
	}
	return s.AddText([]byte(s.divider.Layout.ShapeText(true, s.v.Fields, string(entry))), entry)
}
