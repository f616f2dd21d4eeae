package engine

import (
	"bytes"
	"crypto/sha256"
	"encoding/base32"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// The changes of an alert that the engine makes.
const (
	Raised   = "raised"
	Worsened = "worsened"
	Repeated = "repeated"
	Cleared  = "cleared"
	Reopened = "reopened"
)

// Transition is a change of an alert.
type Transition struct {
	At       entry.Instant
	Change   string
	Rule     string
	Fields   []string // the fields of the key, in the rule's order
	Key      []string // their values as written
	Severity entry.Severity
	Alert    string // the same from raised to cleared
	Count    int
	First    entry.Instant // own times of hits
	Last     entry.Instant
	Why      string
	Say      string
	Entry    *Ref // nil where a timer or a person acted
	By       string
	Words    string
	Until    entry.Instant // when a hush ends; 0: it does not by itself, or this is none
	LetGo    bool          // a note by which who has taken it lets it go again
	Untold   Untold
	Reporter string // the joined host that decided it; "" is this machine
}

// Untold is why nobody is told of a transition; the zero value where somebody is.
type Untold string

// The reasons, besides those of ShadowOf.
const (
	ByHush     Untold = "hush"        // a hush holds, of the settings or by hand
	CatchingUp Untold = "catching up" // the present had not been reached; it is summed up then
)

const shadowOf = "shadow of "

// ShadowOf is the reason of an alert in the shadow of an open one of another rule.
func ShadowOf(rule string) Untold { return Untold(shadowOf + rule) }

// Shadow is the rule of ShadowOf; false of other reasons.
func (u Untold) Shadow() (rule string, ok bool) { return strings.CutPrefix(string(u), shadowOf) }

// Ref is where an entry stands.
type Ref struct {
	Origin string `json:"origin"`
	Offset int64  `json:"offset"`
	Text   string `json:"text"`
}

// Value is the value of a field of the key; "" where the key has no such field.
func (t *Transition) Value(field string) string {
	if i := slices.Index(t.Fields, field); i >= 0 && i < len(t.Key) {
		return t.Key[i]
	}
	return ""
}

// MarshalJSON writes the transition as one line, its key in the rule's order.
func (t Transition) MarshalJSON() ([]byte, error) {
	var b bytes.Buffer
	var err error
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false) // which only HTML needs
	value := func(v any) {
		if x := e.Encode(v); x != nil && err == nil {
			err = x
		}
		b.Truncate(b.Len() - 1) // the line end
	}
	add := func(name string, v any, when bool) {
		if when {
			b.WriteString(`,"` + name + `":`)
			value(v)
		}
	}
	b.WriteString(`{"at":`)
	value(t.At.String())
	add("change", t.Change, true)
	add("rule", t.Rule, true)
	b.WriteString(`,"key":{`)
	for i, f := range t.Fields {
		if i > 0 {
			b.WriteByte(',')
		}
		value(f)
		b.WriteByte(':')
		value(t.Key[i])
	}
	b.WriteByte('}')
	add("severity", t.Severity.String(), true)
	add("alert", t.Alert, true)
	add("count", t.Count, true)
	add("first", t.First.String(), t.First != entry.None)
	add("last", t.Last.String(), t.Last != entry.None)
	add("why", t.Why, true)
	add("say", t.Say, true)
	add("by", t.By, t.By != "")
	add("words", t.Words, t.Words != "")
	add("until", t.Until.String(), t.Until != 0)
	add("let_go", true, t.LetGo)
	add("untold", t.Untold, t.Untold != "")
	add("reporter", t.Reporter, t.Reporter != "")
	add("entry", t.Entry, t.Entry != nil)
	b.WriteByte('}')
	return b.Bytes(), err
}

// UnmarshalJSON reads what MarshalJSON wrote; the fields of the key in their order.
func (t *Transition) UnmarshalJSON(b []byte) error {
	var x struct {
		At, First, Last, Until instantText
		Change, Rule           string
		Key                    json.RawMessage
		Severity               string
		Alert                  string
		Count                  int
		Why, Say, By, Words    string
		Entry                  *Ref
		LetGo                  bool `json:"let_go"`
		Untold                 Untold
		Reporter               string
	}
	x.First, x.Last = instantText(entry.None), instantText(entry.None)
	if err := json.Unmarshal(b, &x); err != nil {
		return err
	}
	severity := entry.SeverityOf(x.Severity)
	if severity == 0 {
		return fmt.Errorf("%q is no severity", x.Severity)
	}
	*t = Transition{At: entry.Instant(x.At), Change: x.Change, Rule: x.Rule, Severity: severity, Alert: x.Alert,
		Count: x.Count, First: entry.Instant(x.First),
		Last: entry.Instant(x.Last), Why: x.Why, Say: x.Say, Entry: x.Entry, By: x.By, Words: x.Words,
		Until: entry.Instant(x.Until), LetGo: x.LetGo, Untold: x.Untold, Reporter: x.Reporter}
	var err error
	t.Fields, t.Key, err = readKey(x.Key)
	return err
}

// instantText is an instant as RFC 3339 has it.
type instantText entry.Instant

func (i *instantText) UnmarshalJSON(b []byte) error {
	var t time.Time
	if err := json.Unmarshal(b, &t); err != nil {
		return err
	}
	*i = instantText(entry.Of(t))
	return nil
}

// readKey reads an object of texts in the order of its names.
func readKey(b []byte) (fields, values []string, err error) {
	d := json.NewDecoder(bytes.NewReader(b))
	open, err := d.Token()
	if err != nil || open != json.Delim('{') {
		return nil, nil, errors.New("its key is no object")
	}
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return nil, nil, err
		}
		var value string
		if err := d.Decode(&value); err != nil {
			return nil, nil, err
		}
		fields, values = append(fields, name.(string)), append(values, value)
	}
	return fields, values, nil
}

// alertID derives an alert's identifier from the joined host, rule, key, the instant of the raise
// and the raising entry.
func alertID(reporter, rule string, key []string, at entry.Instant, x *entry.Entry) string {
	h := sha256.New()
	part := func(s string) {
		var n [8]byte
		binary.LittleEndian.PutUint64(n[:], uint64(len(s)))
		h.Write(n[:])
		h.Write([]byte(s))
	}
	if reporter != "" {
		part(reporter)
	}
	part(rule)
	for _, k := range key {
		part(k)
	}
	part(strconv.FormatInt(int64(at), 10))
	if x != nil {
		part(x.Origin)
		part(strconv.FormatInt(x.Offset, 10))
		part(x.Raw)
	}
	sum := h.Sum(nil)
	return strings.ToLower(base32.HexEncoding.EncodeToString(sum)[:12])
}

func (e *Engine) emit(s *state, change string, at entry.Instant, why string, x *entry.Entry) {
	a := s.alert
	t := Transition{At: at, Change: change, Rule: s.rule.Name, Fields: s.rule.Per, Key: s.key,
		Severity: a.severity, Alert: a.id, Count: a.count, First: a.first, Last: a.last, Why: why}
	t.Say = say(s, at)
	if s.rule.index < 0 { // a host's
		n := len(s.key) - 1
		t.Fields, t.Key, t.Reporter = s.rule.Per[:n], s.key[:n], s.key[n]
	}
	if by := e.shadow(s); by != "" {
		t.Untold = ShadowOf(by)
	}
	if x != nil {
		t.Entry = &Ref{x.Origin, x.Offset, entry.Evidence(x.Raw)}
	}
	e.out = append(e.out, t)
}

// shadow is the rule in the shadow of which a key's alert stands; "" where none is open
// that agrees.
func (e *Engine) shadow(s *state) string {
	for _, u := range s.rule.Unless {
		i := slices.IndexFunc(e.rules, func(r *rule) bool { return r.Name == u.Rule })
		if i < 0 || e.rules[i].open == 0 {
			continue
		}
		other := e.rules[i]
		for _, o := range other.keys {
			if o.alert == nil {
				continue
			}
			same := true
			for _, f := range u.Same {
				a, b := slices.Index(s.rule.Per, f), slices.Index(other.Per, f)
				same = same && a >= 0 && b >= 0 && s.key[a] == o.key[b]
			}
			if same {
				return u.Rule
			}
		}
	}
	return ""
}

// awaitedSince is the name of the variable of an alert that says from when on it was waited for what did
// not come. No field is called so.
const awaitedSince = " since"

// waited is how long an alert's key had waited at an instant for what did not come; false where it
// does not wait for anything.
func (s *state) waited(at entry.Instant) (time.Duration, bool) {
	for _, v := range s.alert.vars {
		if v.Name == awaitedSince {
			n, err := strconv.ParseInt(v.Value, 10, 64)
			return at.Sub(entry.Instant(n)), err == nil
		}
	}
	return 0, false
}

// say fills in the rule's text for a transition; what is lacking is written ?.
func say(s *state, at entry.Instant) string {
	r, a := s.rule, s.alert
	for _, v := range a.vars {
		if v.Name == saidAs {
			return v.Value
		}
	}
	if r.Say == "" {
		return strings.TrimSpace(r.Name + " " + strings.Join(s.key, " "))
	}
	return Fill(r.Say, func(f string) string {
		switch f {
		case "count":
			return strconv.Itoa(a.count)
		case "span":
			if d, ok := s.waited(at); ok {
				return entry.RoughSpan(d)
			}
			if a.first == entry.None {
				return "?"
			}
			return entry.RoughSpan(a.last.Sub(a.first))
		case "first":
			return a.first.String()
		case "last":
			return a.last.String()
		case "severity":
			return a.severity.String()
		}
		for i, p := range r.Per {
			if p == f {
				return s.key[i]
			}
		}
		for _, v := range a.vars {
			if v.Name == f {
				return v.Value
			}
		}
		return "?"
	})
}

// Fill puts values into a template.
func Fill(template string, value func(field string) string) string {
	var b strings.Builder
	for _, p := range lang.Template(template) {
		if p.Field != "" {
			b.WriteString(value(p.Field))
		} else {
			b.WriteString(p.Text)
		}
	}
	return b.String()
}
