package engine

import (
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sort"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// stateVersion is the first byte of an encoded state.
const stateVersion = 2

// ErrState says that bytes are no state that Decode understands.
var ErrState = errors.New("engine: this is no saved state, or one of another version")

// Encode writes the whole state. With the same rules, Decode of it goes on
// exactly as the engine would have.
func (e *Engine) Encode() []byte {
	w := writer{stateVersion}
	w.int(int64(e.clock))
	w.int(e.Dropped)
	w.int(e.Hits)
	w.int(e.Recoveries)
	origins := make([]string, 0, len(e.blind))
	for o := range e.blind {
		origins = append(origins, o)
	}
	sort.Strings(origins)
	w.int(int64(len(origins)))
	for _, o := range origins {
		w.str(o)
		w.int(int64(e.blind[o]))
	}
	w.int(int64(len(e.held)))
	for _, i := range slices.Sorted(maps.Keys(e.held)) {
		w.int(int64(i))
		w.int(int64(e.held[i]))
	}
	w.int(int64(len(e.rules)))
	for _, r := range e.rules {
		w.str(r.Name)
		w.int(int64(len(r.keys)))
		for s := r.oldest; s != nil; s = s.newer { // longest idle first
			w.state(s)
		}
		open := make([]*state, 0, r.open)
		for _, s := range r.keys {
			if s.alert != nil {
				open = append(open, s)
			}
		}
		sort.Slice(open, func(i, j int) bool { return keyID(open[i].key) < keyID(open[j].key) })
		for _, s := range open {
			w.state(s)
		}
	}
	return w
}

type writer []byte

func (w *writer) int(v int64) { *w = binary.AppendVarint(*w, v) }
func (w *writer) str(s string) {
	w.int(int64(len(s)))
	*w = append(*w, s...)
}

func (w *writer) strs(ss []string) {
	w.int(int64(len(ss)))
	for _, s := range ss {
		w.str(s)
	}
}

func (w *writer) state(s *state) {
	w.strs(s.key)
	w.int(int64(s.touched))
	w.int(int64(len(s.hits)))
	last := int64(0)
	for _, h := range s.hits {
		w.int(int64(h) - last)
		last = int64(h)
	}
	w.int(int64(s.count))
	w.int(int64(s.first))
	w.int(int64(s.last))
	w.strs(s.origins)
	w.int(int64(s.blindAt))
	a := s.alert
	if a == nil {
		w.int(0)
		return
	}
	w.int(1)
	w.str(a.id)
	w.str(a.why)
	w.int(int64(a.severity))
	w.int(int64(a.raised))
	w.int(int64(a.count))
	w.int(int64(a.first))
	w.int(int64(a.last))
	w.int(int64(a.told))
	w.int(int64(a.quiet))
	w.int(int64(len(a.vars)))
	for _, v := range a.vars {
		w.str(v.Name)
		w.str(v.Value)
	}
}

// Decode makes an engine for the rules with which the state was encoded.
func Decode(rules []*lang.Rule, data []byte) (*Engine, error) {
	if len(data) == 0 || data[0] < 1 || data[0] > stateVersion {
		return nil, ErrState
	}
	r := &reader{b: data[1:]}
	e := New(rules)
	e.clock = entry.Instant(r.int())
	e.Dropped, e.Hits, e.Recoveries = r.int(), r.int(), r.int()
	for range r.len() {
		o := r.str()
		e.blind[o] = entry.Instant(r.int())
	}
	if data[0] >= 2 { // the first form held no rules
		held := map[int]entry.Instant{}
		for range r.len() {
			i := int(r.int())
			held[i] = entry.Instant(r.int())
		}
		e.Hold(held)
	}
	n := r.len()
	if r.bad || n != len(rules) {
		return nil, fmt.Errorf("%w: it has %d rules, %d were given", ErrState, n, len(rules))
	}
	for i := range n {
		rule := e.rules[i]
		if name := r.str(); name != rule.Name {
			return nil, fmt.Errorf("%w: it has the rule %q where %q was given", ErrState, name, rule.Name)
		}
		for range r.len() {
			e.adopt(rule, r.state(rule))
			if r.bad {
				return nil, ErrState
			}
		}
	}
	if r.bad || len(r.b) > 0 {
		return nil, ErrState
	}
	return e, nil
}

// adopt takes a key's state into a rule, and arms its timers.
func (e *Engine) adopt(r *rule, s *state) {
	s.rule = r
	s.armed = [3]entry.Instant{entry.None, entry.None, entry.None}
	r.keys[keyID(s.key)] = s
	if s.alert == nil {
		r.link(s)
		return
	}
	r.open++
	for _, class := range []int{classClear, classRemind} {
		due := s.deadline(class)
		if due == entry.None {
			continue
		}
		if _, held := e.held[r.index]; !held { // what is past when it is set falls due at once
			due = entry.Later(due, e.clock)
		}
		e.arm(s, class, due)
	}
}

type reader struct {
	b   []byte
	bad bool
}

func (r *reader) int() int64 {
	v, n := binary.Varint(r.b)
	if n <= 0 {
		r.bad, r.b = true, nil
		return 0
	}
	r.b = r.b[n:]
	return v
}

// len reads a length, which is never more than the bytes that are left.
func (r *reader) len() int {
	n := r.int()
	if n < 0 || n > int64(len(r.b)) {
		r.bad, r.b = true, nil
		return 0
	}
	return int(n)
}

func (r *reader) str() string {
	n := r.len()
	s := string(r.b[:n])
	r.b = r.b[n:]
	return s
}

func (r *reader) strs() []string {
	var out []string
	for range r.len() {
		out = append(out, r.str())
	}
	return out
}

func (r *reader) state(rule *rule) *state {
	s := &state{key: r.strs(), touched: entry.Instant(r.int())}
	if s.key == nil {
		s.key = []string{}
	}
	last := int64(0)
	for range r.len() {
		last += r.int()
		s.hits = append(s.hits, entry.Instant(last))
	}
	s.count = int(r.int())
	s.first, s.last = entry.Instant(r.int()), entry.Instant(r.int())
	s.origins = r.strs()
	s.blindAt = entry.Instant(r.int())
	if len(s.key) != len(rule.Per) {
		r.bad = true
	}
	if r.int() == 0 {
		return s
	}
	a := &alert{id: r.str(), why: r.str(), severity: entry.Severity(r.int())}
	a.raised, a.count = entry.Instant(r.int()), int(r.int())
	a.first, a.last = entry.Instant(r.int()), entry.Instant(r.int())
	a.told, a.quiet = entry.Instant(r.int()), entry.Instant(r.int())
	for range r.len() {
		a.vars = append(a.vars, entry.Field{Name: r.str(), Value: r.str()})
	}
	s.alert = a
	return s
}

// EncodeJudged writes a judged entry as a compact record; names of rules stand
// in it by their place in the engine.
func EncodeJudged(b []byte, j *Judged) []byte {
	w := writer(b)
	x := j.Entry
	w.str(x.Source)
	w.str(x.Origin)
	w.str(x.Host)
	w.int(x.Offset)
	w.str(x.Raw)
	w.int(int64(x.At))
	w.int(int64(j.Reached))
	w.int(int64(len(j.Verdicts)))
	for _, v := range j.Verdicts {
		kind := int64(0)
		if v.Recovery {
			kind = 1
		}
		w.int(int64(v.Rule)<<1 | kind)
		w.strs(v.Key)
		w.int(int64(len(v.Vars)))
		for _, f := range v.Vars {
			w.str(f.Name)
			w.str(f.Value)
		}
	}
	return w
}

// DecodeJudged reads a record of EncodeJudged and returns what is left of b.
func DecodeJudged(b []byte) (*Judged, []byte, error) {
	r := &reader{b: b}
	x := &entry.Entry{Source: r.str(), Origin: r.str(), Host: r.str(), Offset: r.int(), Raw: r.str(), At: entry.Instant(r.int())}
	j := &Judged{Entry: x, Reached: entry.Instant(r.int())}
	for range r.len() {
		n := r.int()
		v := Verdict{Rule: int(n >> 1), Recovery: n&1 == 1, Key: r.strs()}
		for range r.len() {
			v.Vars = append(v.Vars, entry.Field{Name: r.str(), Value: r.str()})
		}
		j.Verdicts = append(j.Verdicts, v)
	}
	if r.bad {
		return nil, nil, ErrState
	}
	return j, r.b, nil
}

// Edit takes up new rules, which must be in the order of their names. A rule of
// which only words or thresholds changed keeps its state; where it matches
// differently now, its open alerts are cleared with the reason.
func (e *Engine) Edit(rules []*lang.Rule, sameMatch func(old, new *lang.Rule) bool) []Transition {
	e.out = e.out[:0]
	next := New(rules)
	next.clock, next.blind, next.Dropped, next.Hits, next.Recoveries = e.clock, e.blind, e.Dropped, e.Hits, e.Recoveries
	byName := map[string]*rule{}
	for _, r := range next.rules {
		byName[r.Name] = r
	}
	for _, old := range e.rules {
		now := byName[old.Name]
		why := ""
		switch {
		case now == nil:
			why = "rule removed"
		case !sameMatch(old.Rule, now.Rule):
			why = "rule changed"
		}
		if why == "" {
			e.carry(old, now, next)
			continue
		}
		var open []*state
		for _, s := range old.keys {
			if s.alert != nil {
				open = append(open, s)
			}
		}
		sort.Slice(open, func(i, j int) bool { return less(open[i].key, open[j].key) })
		for _, s := range open {
			e.emit(s, Cleared, e.clock, why, nil)
		}
	}
	out := e.out
	*e = *next
	e.out = out
	return out
}

func less(a, b []string) bool {
	for i := range a {
		if a[i] != b[i] {
			return a[i] < b[i]
		}
	}
	return false
}

// carry moves the state of a rule's keys to its new form: open alerts, kept hits
// and the beginnings of deadlines.
func (e *Engine) carry(old, now *rule, next *Engine) {
	var list []*state
	for s := old.oldest; s != nil; s = s.newer {
		list = append(list, s)
	}
	for _, s := range old.keys {
		if s.alert != nil {
			list = append(list, s)
		}
	}
	for _, s := range list {
		s.older, s.newer = nil, nil
		if now.most == 0 {
			s.hits = nil
		} else if n := len(s.hits) - now.most; n > 0 {
			s.hits = s.hits[n:]
		}
		if a := s.alert; a != nil {
			switch {
			case now.Quiet == 0:
				a.quiet = entry.None
			case now.Quiet != old.Quiet || a.quiet == entry.None:
				a.quiet = entry.Later(s.last, a.raised).Add(now.Quiet)
			}
		}
		next.adopt(now, s)
	}
}

// KeyView is what is known of one key, for people to look at.
type KeyView struct {
	Rule     string
	Key      []string
	Origins  []string
	Alert    string // "" where none is open
	Severity entry.Severity
	Raised   entry.Instant
	Count    int
	Why      string
	Quiet    entry.Instant // when it clears by quiet, or None
	Blind    bool
	Hits     []entry.Instant // kept hits, sorted
	Total    int             // hits since the key started from zero
	Last     entry.Instant   // the newest hit
}

// Keys are all keys that are known, open ones and others, in no order.
func (e *Engine) Keys() []KeyView {
	var out []KeyView
	for _, r := range e.rules {
		for _, s := range r.keys {
			out = append(out, s.view())
		}
	}
	return out
}

func (s *state) view() KeyView {
	v := KeyView{Rule: s.rule.Name, Key: s.key, Origins: s.origins, Blind: s.blindAt != entry.None,
		Hits: s.hits, Total: s.count, Last: s.last, Quiet: entry.None}
	if a := s.alert; a != nil {
		v.Alert, v.Severity, v.Raised, v.Count, v.Why = a.id, a.severity, a.raised, a.count, a.why
		if s.blindAt == entry.None {
			v.Quiet = a.quiet
		}
	}
	return v
}

// Find returns the view of the key with that open alert.
func (e *Engine) Find(alert string) (KeyView, bool) {
	for _, r := range e.rules {
		for _, s := range r.keys {
			if s.alert != nil && s.alert.id == alert {
				return s.view(), true
			}
		}
	}
	return KeyView{}, false
}

// Open counts the open alerts.
func (e *Engine) Open() int {
	n := 0
	for _, r := range e.rules {
		n += r.open
	}
	return n
}
