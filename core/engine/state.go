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

// stateVersion is the first byte of an encoded state; the one before had nothing that rests.
const stateVersion = 4

// ErrState says that bytes are no state that Decode understands.
var ErrState = errors.New("engine: this is no saved state, or one of another version")

// Encode writes the whole state. With the same rules, Decode of it goes on
// exactly as the engine would have.
func (e *Engine) Encode() []byte {
	w := append(make(writer, 0, e.encoded+e.encoded/8+64), stateVersion)
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
	w.rest(e.rest)
	w.int(int64(len(e.rules)))
	for _, r := range e.rules {
		w.str(r.Name)
		w.int(int64(r.began))
		w.int(r.hits)
		w.int(int64(r.last))
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
	if len(e.relayed) > 0 {
		w.relayedStates(e)
	}
	e.encoded = len(w)
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

func (w *writer) instants(list []entry.Instant) {
	w.int(int64(len(list)))
	last := int64(0)
	for _, h := range list {
		w.int(int64(h) - last)
		last = int64(h)
	}
}

func (w *writer) bool(b bool) {
	if b {
		w.int(1)
	} else {
		w.int(0)
	}
}

func (w *writer) state(s *state) {
	w.strs(s.key)
	w.int(int64(s.touched))
	w.int(int64(s.zero))
	w.instants(s.hits)
	w.int(int64(s.count))
	w.int(int64(s.first))
	w.int(int64(s.last))
	w.strs(s.origins)
	w.int(int64(s.blindAt))
	w.instants(s.recovered)
	w.int(int64(len(s.own)))
	for i := range s.own {
		w.own(&s.own[i])
	}
	w.int(int64(len(s.wins)))
	for i := range s.wins {
		w.window(&s.wins[i])
	}
	w.bool(s.wait.waits)
	w.bool(s.wait.aged)
	for _, at := range []entry.Instant{s.wait.asked, s.wait.heard, s.wait.by} {
		w.int(int64(at))
	}
	w.bool(s.past != nil)
	if p := s.past; p != nil {
		w.str(p.id)
		for _, v := range []int64{int64(p.cleared), int64(p.raised), int64(p.count), int64(p.first), int64(p.last)} {
			w.int(v)
		}
	}
	a := s.alert
	w.bool(a != nil)
	if a == nil {
		return
	}
	w.str(a.id)
	w.str(a.why)
	for _, v := range []int64{int64(a.severity), int64(a.raised), int64(a.since), int64(a.count), int64(a.first),
		int64(a.last), int64(a.told)} {
		w.int(v)
	}
	w.int(int64(len(a.darks)))
	for _, d := range a.darks {
		w.int(int64(d[0]))
		w.int(int64(d[1]))
	}
	w.bool(a.blind)
	w.bool(a.taken)
	w.int(int64(len(a.vars)))
	for _, v := range a.vars {
		w.str(v.Name)
		w.str(v.Value)
	}
}

func (w *writer) own(h *ownHits) {
	w.instants(h.at)
	w.strs(h.value)
	w.int(int64(h.count))
	w.int(int64(h.first))
	w.int(int64(h.last))
	w.int(int64(len(h.waits)))
	for _, x := range h.waits {
		w.int(int64(x.at))
		w.int(int64(x.first))
		w.int(int64(x.last))
	}
}

func (w *writer) window(x *window) {
	w.int(int64(len(x.runs)))
	for _, r := range x.runs {
		w.int(int64(r.at))
		w.int(int64(r.entries))
		w.int(int64(r.hits))
		w.strs(r.values)
	}
	w.int(int64(len(x.periods)))
	for _, p := range x.periods {
		w.int(p.index)
		w.int(int64(p.tally.entries))
		w.int(int64(p.tally.hits))
		w.strs(p.tally.list)
		w.int(int64(p.first))
		w.int(int64(p.last))
	}
	w.int(x.next)
	w.int(int64(len(x.results)))
	for _, r := range x.results {
		w.bool(r.holds)
		w.int(int64(r.hits))
		w.int(int64(r.first))
		w.int(int64(r.last))
	}
	w.bool(x.said)
	w.bool(x.ripe)
	w.bool(x.fresh)
	w.int(int64(x.freshAt))
}

// Decode makes an engine for the rules with which the state was encoded.
func Decode(rules []*lang.Rule, data []byte) (*Engine, error) {
	if len(data) == 0 || data[0] != stateVersion && data[0] != stateVersion-1 {
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
	held := map[int]entry.Instant{}
	for range r.len() {
		i := int(r.int())
		held[i] = entry.Instant(r.int())
	}
	e.hold(held)
	if data[0] == stateVersion {
		for range r.len() {
			o := r.str()
			if e.rest == nil {
				e.rest = map[string]entry.Instant{}
			}
			e.rest[o] = entry.Instant(r.int())
		}
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
		rule.began = entry.Instant(r.int())
		rule.hits, rule.last = r.int(), entry.Instant(r.int())
		for range r.len() {
			e.adopt(rule, r.state(rule))
			if r.bad {
				return nil, ErrState
			}
		}
	}
	if len(r.b) > 0 {
		r.relayedStates(e)
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
	e.changed(s)
	if s.alert == nil {
		r.link(s)
		if !r.lasts {
			return
		}
	} else {
		r.open++
	}
	e.rearm(s)
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

func (r *reader) instants() []entry.Instant {
	var out []entry.Instant
	last := int64(0)
	for range r.len() {
		last += r.int()
		out = append(out, entry.Instant(last))
	}
	return out
}

func (r *reader) bool() bool { return r.int() == 1 }

func (r *reader) instant() entry.Instant { return entry.Instant(r.int()) }

func (r *reader) state(rule *rule) *state {
	s := &state{key: r.strs(), touched: r.instant(), zero: r.instant()}
	if s.key == nil {
		s.key = []string{}
	}
	s.hits = r.instants()
	s.count = int(r.int())
	s.first, s.last = r.instant(), r.instant()
	s.origins = r.strs()
	s.blindAt = r.instant()
	s.recovered = r.instants()
	for range r.len() {
		s.own = append(s.own, r.own())
	}
	for k := range r.len() {
		if k >= len(rule.whens) {
			r.bad = true
			return s
		}
		s.wins = append(s.wins, r.window(rule.whens[k]))
	}
	s.wait = waiting{waits: r.bool(), aged: r.bool(), asked: r.instant(), heard: r.instant(), by: r.instant()}
	if r.bool() {
		s.past = &past{id: r.str(), cleared: r.instant(), raised: r.instant(), count: int(r.int()),
			first: r.instant(), last: r.instant()}
	}
	if len(s.key) != len(rule.Per) || len(s.wins) != len(rule.whens) || rule.owns != (len(s.own) > 0) ||
		len(s.own) > len(rule.Raises) {
		r.bad = true
	}
	if !r.bool() {
		return s
	}
	a := &alert{id: r.str(), why: r.str(), severity: entry.Severity(r.int())}
	a.raised, a.since, a.count = r.instant(), r.instant(), int(r.int())
	a.first, a.last = r.instant(), r.instant()
	a.told = r.instant()
	for range r.len() {
		a.darks = append(a.darks, [2]entry.Instant{r.instant(), r.instant()})
	}
	a.blind, a.taken = r.bool(), r.bool()
	for range r.len() {
		a.vars = append(a.vars, entry.Field{Name: r.str(), Value: r.str()})
	}
	s.alert = a
	return s
}

func (r *reader) own() ownHits {
	h := ownHits{at: r.instants(), value: r.strs(), count: int(r.int()), first: r.instant(), last: r.instant()}
	for range r.len() {
		h.waits = append(h.waits, await{r.instant(), r.instant(), r.instant()})
	}
	if len(h.value) != len(h.at) {
		r.bad = true
	}
	return h
}

func (r *reader) window(w *lang.When) window {
	var x window
	for range r.len() {
		y := run{at: r.instant(), entries: int(r.int()), hits: int(r.int()), values: r.strs()}
		x.tally.take(w, y.entries, y.hits, y.values, 1)
		x.runs = append(x.runs, y)
	}
	for range r.len() {
		p := period{index: r.int()}
		entries, hits := int(r.int()), int(r.int())
		p.tally.list = r.strs()
		p.tally.take(w, entries, hits, p.tally.list, 1)
		p.first, p.last = r.instant(), r.instant()
		x.periods = append(x.periods, p)
	}
	x.next = r.int()
	for range r.len() {
		x.results = append(x.results, result{r.bool(), int(r.int()), r.instant(), r.instant()})
	}
	x.said, x.ripe, x.fresh, x.freshAt = r.bool(), r.bool(), r.bool(), r.instant()
	return x
}

// KeyView is what is known of one key, for people to look at.
type KeyView struct {
	Rule     string
	Fields   []string // of the key
	Key      []string
	Origins  []string
	Alert    string // "" where none is open
	Severity entry.Severity
	Raised   entry.Instant
	Since    entry.Instant // when it was raised or reopened
	Count    int
	Why      string
	Quiet    entry.Instant // when it clears by quiet, or None
	Blind    bool
	Hits     []entry.Instant // kept hits, sorted
	Total    int             // hits since the key started from zero
	Last     entry.Instant   // the newest hit
	Heard    entry.Instant   // the newest awaited entry, or None
	Rests    bool            // its logs are not read on purpose; see Rest
}

func (e *Engine) view(s *state) KeyView {
	v := s.view()
	_, v.Rests = e.rests(s)
	return v
}

// Keys are all keys that are known, open ones and others, in no order.
func (e *Engine) Keys() []KeyView {
	var out []KeyView
	for r := range e.every {
		for _, s := range r.keys {
			out = append(out, e.view(s))
		}
	}
	return out
}

func (s *state) view() KeyView {
	v := KeyView{Rule: s.rule.Name, Fields: s.rule.Per, Key: s.key, Origins: s.origins, Blind: s.blindAt != entry.None,
		Hits: s.hits, Total: s.count, Last: s.last, Heard: s.wait.heard, Quiet: entry.None}
	if a := s.alert; a != nil {
		v.Alert, v.Severity, v.Raised, v.Since, v.Count, v.Why = a.id, a.severity, a.raised, a.since, a.count, a.why
		v.Quiet = s.quiet()
	}
	return v
}

// Find returns the view of the key with that open alert.
func (e *Engine) Find(alert string) (KeyView, bool) {
	for r := range e.every {
		for _, s := range r.keys {
			if s.alert != nil && s.alert.id == alert {
				return e.view(s), true
			}
		}
	}
	return KeyView{}, false
}

// KeyOf returns the view of a key.
func (e *Engine) KeyOf(rule string, key []string) (KeyView, bool) {
	for r := range e.every {
		if r.Name != rule {
			continue
		}
		if s := r.keys[keyID(key)]; s != nil {
			return e.view(s), true
		}
	}
	return KeyView{}, false
}

// OpenOf are the keys of a rule whose alerts are open, in no order.
func (e *Engine) OpenOf(rule string) [][]string {
	var out [][]string
	for r := range e.every {
		if r.Name != rule || r.open == 0 {
			continue
		}
		for _, s := range r.keys {
			if s.alert != nil {
				out = append(out, s.key)
			}
		}
	}
	return out
}

// Open counts the open alerts.
func (e *Engine) Open() int {
	n := 0
	for r := range e.every {
		n += r.open
	}
	return n
}
