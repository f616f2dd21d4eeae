package match

import (
	"bytes"
	"net/netip"
	"strings"
	"unicode"
	"unicode/utf8"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Subject is an entry as an expression sees it: its fields, and in front of
// them what the expression has captured so far.
type Subject struct {
	Entry    *entry.Entry
	Captures []entry.Field
}

// Get returns the value of a field; a capture hides a field of its name. It
// answers false where the value is lacking.
func (s *Subject) Get(name string) (string, bool) {
	for i := len(s.Captures) - 1; i >= 0; i-- {
		if s.Captures[i].Name == name {
			return s.Captures[i].Value, s.Captures[i].Value != ""
		}
	}
	return s.Entry.Get(name)
}

// Eval tells whether an expression holds for the subject, and leaves what it
// captured in the subject. It goes from left to right and stops when decided;
// captures of a part that failed, was not reached or lies under not are gone. A
// nil expression holds for nothing.
func Eval(x lang.Expr, s *Subject) bool {
	if x == nil {
		return false
	}
	mark := len(s.Captures)
	ok := eval(x, s)
	if !ok {
		s.Captures = s.Captures[:mark]
	}
	return ok
}

func eval(x lang.Expr, s *Subject) bool {
	switch x := x.(type) {
	case *lang.And:
		for _, p := range x.Of {
			if !Eval(p, s) {
				return false
			}
		}
		return true
	case *lang.Or:
		for _, p := range x.Of {
			if Eval(p, s) {
				return true
			}
		}
		return false
	case *lang.Not:
		mark := len(s.Captures)
		ok := Eval(x.Of, s)
		s.Captures = s.Captures[:mark]
		return !ok
	case *lang.Is:
		return Eval(x.Kind.Where, s)
	case *lang.Match:
		return evalMatch(x, s)
	case *lang.Phrase:
		return HasPhrase(s.Entry.Text(), x.Text)
	case *lang.Has:
		_, ok := s.Get(x.Field)
		return ok != x.Lacks
	case *lang.Compare:
		v, ok := s.Get(x.Field)
		return ok && compare(v, x.Op, x.Value, timeOf(x.Field, s))
	case *lang.In:
		v, ok := s.Get(x.Field)
		if !ok {
			return false
		}
		for i := range x.Values {
			if compare(v, "==", x.Values[i], timeOf(x.Field, s)) {
				return true
			}
		}
	}
	return false
}

// timeOf is the instant that a built-in time stands for.
func timeOf(field string, s *Subject) entry.Instant {
	switch field {
	case "at":
		return s.Entry.At
	case "arrived":
		return s.Entry.Arrived
	}
	return entry.None
}

func evalMatch(x *lang.Match, s *Subject) bool {
	v := ""
	if x.Field == "" {
		v = s.Entry.Text()
	} else {
		var ok bool
		if v, ok = s.Get(x.Field); !ok {
			return false
		}
	}
	p := x.Pattern
	var room [16]int
	spans := p.Find(v, room[:])
	if x.Neg || spans == nil {
		return x.Neg && spans == nil
	}
	if len(p.Groups) == 0 {
		return true
	}
	for i, n := range p.Names() {
		if n != "" && spans[2*i] >= 0 {
			s.Captures = append(s.Captures, entry.Field{Name: n, Value: v[spans[2*i]:spans[2*i+1]]})
		}
	}
	return true
}

// HasPhrase tells whether the phrase stands in text as whole words: its first
// and last character, where it is a letter, mark, digit or _, may not touch
// another such.
func HasPhrase[T string | []byte](text T, phrase string) bool { return FindPhrase(text, phrase) >= 0 }

// FindPhrase is where the phrase stands first, in bytes; -1 where it does not.
func FindPhrase[T string | []byte](text T, phrase string) int {
	first, _ := utf8.DecodeRuneInString(phrase)
	last, _ := utf8.DecodeLastRuneInString(phrase)
	for from := 0; ; {
		i := index(text[from:], phrase)
		if i < 0 {
			return -1
		}
		i += from
		end := i + len(phrase)
		before, _ := utf8.DecodeLastRuneInString(string(text[max(i-utf8.UTFMax, 0):i]))
		after, _ := utf8.DecodeRuneInString(string(text[end:min(end+utf8.UTFMax, len(text))]))
		if !(wordRune(first) && i > 0 && wordRune(before)) &&
			!(wordRune(last) && end < len(text) && wordRune(after)) {
			return i
		}
		_, size := utf8.DecodeRuneInString(string(text[i:min(i+utf8.UTFMax, len(text))]))
		from = i + size
	}
}

func index[T string | []byte](text T, phrase string) int {
	switch text := any(text).(type) {
	case string:
		return strings.Index(text, phrase)
	case []byte:
		return bytes.Index(text, []byte(phrase))
	}
	return -1
}

func wordRune(r rune) bool {
	if r < utf8.RuneSelf {
		return r == '_' || r-'0' <= 9 && r >= '0' || r|0x20 >= 'a' && r|0x20 <= 'z'
	}
	return unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsMark(r)
}

// compare compares a field's value, which is not lacking, with one that a rule
// names. What cannot be compared fits != alone.
func compare(v, op string, w lang.Value, at entry.Instant) bool {
	other := op == "!="
	switch w.Kind {
	case lang.TextValue:
		return entry.Holds(strings.Compare(v, w.Text), op)
	case lang.NumberValue:
		n, ok := entry.ParseNumber(v)
		if !ok {
			return other
		}
		return entry.Holds(n.Compare(w.Number), op)
	case lang.RangeValue:
		n, ok := entry.ParseNumber(v)
		return ok && n.Compare(w.Number) >= 0 && n.Compare(w.Upper) <= 0
	case lang.DurationValue:
		d, err := entry.ParseDuration(v)
		if err != nil {
			return other
		}
		return entry.Holds(int(min(1, max(-1, d-w.Duration))), op)
	case lang.LevelValue:
		l := entry.LevelWritten(v)
		if l == 0 {
			return other
		}
		return entry.Holds(l-w.Level, op)
	case lang.TimeValue:
		if at == entry.None {
			return other
		}
		return entry.Holds(int(min(1, max(-1, at-w.Time))), op)
	case lang.AddressValue, lang.NetValue:
		a, err := netip.ParseAddr(v)
		if err != nil {
			return other
		}
		return (w.Net.Contains(a.WithZone("")) || w.Net.Contains(a.Unmap())) != other
	}
	return false
}
