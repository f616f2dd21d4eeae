// Package engine turns judged entries and instants into transitions of alerts.
// It has no clock, no file and no screen: the same entries and instants give the
// same transitions, byte for byte, whether they come live, from a replay, from
// the bench or from a test. Timers are data in its state; Advance fires those
// that are due, in order, each at its own deadline.
package engine

import (
	"slices"
	"sort"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Judged is an entry that is something for at least one rule.
type Judged struct {
	Entry *entry.Entry
	// Reached is the latest own time of the entry's origin so far.
	Reached entry.Instant
	// Next is the offset behind the entry in its file.
	Next int64
	// Verdicts are in the order of the rules, at most one a rule.
	Verdicts []Verdict
}

// Verdict is what an entry is for a rule.
type Verdict struct {
	Rule     int  // the rule's place in the engine
	Recovery bool // else it is a hit
	// Key are the values of the rule's key fields; "" is lacking.
	Key []string
	// Vars are the fields that the rule's texts name.
	Vars []entry.Field
}

// MaxKeys is how many keys a rule keeps; past that the longest idle one without
// an open alert goes.
const MaxKeys = 100_000

// idle is the least time after which a key without an open alert is forgotten.
const idle = 7 * 24 * time.Hour

// Engine holds the state of all rules for all keys. It is not for several
// goroutines at once.
type Engine struct {
	rules  []*rule
	clock  entry.Instant
	timers timers
	held   map[int]entry.Instant // see Hold
	aside  []timer               // that fell due beyond what their rules are held to
	blind  map[string]entry.Instant
	out    []Transition
	// Dropped counts keys that went because a rule had too many.
	Dropped int64
	// Hits and Recoveries count verdicts.
	Hits, Recoveries int64
}

type rule struct {
	*lang.Rule
	index  int
	most   int           // hits to keep of a key: twice the highest N with a time
	forget time.Duration // how long an idle key is kept
	keys   map[string]*state
	// the keys without an open alert, longest idle first
	oldest, newest *state
	open           int
	vars           []string
}

// state is what is known of one key of one rule.
type state struct {
	rule         *rule
	key          []string // values as written: a lacking one is ?
	touched      entry.Instant
	hits         []entry.Instant // the newest own times, sorted
	count        int             // hits since the key started from zero
	first        entry.Instant   // the earliest and latest of them
	last         entry.Instant
	origins      []string // that gave it an entry
	blindAt      entry.Instant
	alert        *alert
	older, newer *state
	armed        [3]entry.Instant // the deadlines that stand in the heap, by class
}

type alert struct {
	id       string
	severity entry.Severity
	raised   entry.Instant
	count    int
	first    entry.Instant
	last     entry.Instant
	told     entry.Instant
	quiet    entry.Instant // when it clears by quiet, or None
	vars     []entry.Field
	why      string
}

// New returns an engine for rules, which must be in the order of their names.
// Rules that are off must not be among them.
func New(rules []*lang.Rule) *Engine {
	e := &Engine{clock: entry.None, blind: map[string]entry.Instant{}}
	for i, r := range rules {
		e.rules = append(e.rules, newRule(i, r))
	}
	return e
}

func newRule(i int, r *lang.Rule) *rule {
	x := &rule{Rule: r, index: i, forget: idle, keys: map[string]*state{}, vars: Vars(r)}
	longest := max(r.Quiet, r.Remind)
	for _, a := range r.Raises {
		longest = max(longest, a.In)
		if a.In > 0 {
			x.most = max(x.most, 2*a.At)
		}
	}
	if longest > idle/2 {
		x.forget = 2 * longest
	}
	return x
}

// Rules are the engine's rules in its order.
func (e *Engine) Rules() []*lang.Rule {
	out := make([]*lang.Rule, len(e.rules))
	for i, r := range e.rules {
		out[i] = r.Rule
	}
	return out
}

// Name is the name of the rule at that place.
func (e *Engine) Name(rule int) string { return e.rules[rule].Name }

// Clock is the latest own time so far, or the deadline of the last timer that
// acted; None before the first entry.
func (e *Engine) Clock() entry.Instant { return e.clock }

// Take judges one entry. What it returns is valid until the next call.
func (e *Engine) Take(j *Judged) []Transition {
	e.out = e.out[:0]
	if _, blind := e.blind[j.Entry.Origin]; blind {
		e.seen(j.Entry.Origin, j.Reached)
	}
	e.follow(j)
	e.fire(j.Reached)
	e.clock = entry.Later(e.clock, j.Reached)
	for i := range j.Verdicts {
		v := &j.Verdicts[i]
		r := e.rules[v.Rule]
		if v.Recovery {
			e.Recoveries++
			e.recover(r, v, j.Entry)
		} else {
			e.Hits++
			e.hit(r, v, j.Entry)
		}
	}
	e.fire(e.clock)
	return e.out
}

// Advance tells that all entries before t have been taken: timers due up to and
// including t act.
func (e *Engine) Advance(t entry.Instant) []Transition {
	e.out = e.out[:0]
	e.fire(t)
	return e.out
}

// Reach is Advance for an instant that the own time of an entry has reached: the
// clock follows.
func (e *Engine) Reach(t entry.Instant) []Transition {
	e.out = e.out[:0]
	e.fire(t)
	e.clock = entry.Later(e.clock, t)
	return e.out
}

// Clear ends an alert by hand. It answers false where no such alert is open.
func (e *Engine) Clear(id string, at entry.Instant, by, words string) ([]Transition, bool) {
	e.out = e.out[:0]
	for _, r := range e.rules {
		for _, s := range r.keys {
			if s.alert != nil && s.alert.id == id {
				e.clock = entry.Later(e.clock, at)
				e.clear(s, e.clock, "hand", nil)
				t := &e.out[len(e.out)-1]
				t.By, t.Words = by, words
				e.forgetKey(s)
				return e.out, true
			}
		}
	}
	return nil, false
}

// keyID joins values so that different keys have different ids.
func keyID(vals []string) string {
	if len(vals) == 1 {
		return vals[0]
	}
	var b strings.Builder
	for _, v := range vals {
		b.WriteByte(byte(len(v)))
		b.WriteByte(byte(len(v) >> 8))
		b.WriteByte(byte(len(v) >> 16))
		b.WriteString(v)
	}
	return b.String()
}

// Written is the key with ? for what is lacking.
func Written(key []string) []string {
	out := make([]string, len(key))
	for i, v := range key {
		if v == "" {
			v = "?"
		}
		out[i] = v
	}
	return out
}

// recover applies a recovery to every key that agrees with it on all fields that
// it has.
func (e *Engine) recover(r *rule, v *Verdict, x *entry.Entry) {
	if !r.OnRecovery {
		return
	}
	var agree []*state
	if !slices.Contains(v.Key, "") {
		if s := r.keys[keyID(v.Key)]; s != nil {
			agree = append(agree, s)
		}
	} else {
		for _, s := range r.keys {
			if agrees(s.key, v.Key) {
				agree = append(agree, s)
			}
		}
		sort.Slice(agree, func(i, j int) bool { return slices.Compare(agree[i].key, agree[j].key) < 0 })
	}
	for _, s := range agree {
		if s.alert != nil {
			e.clear(s, e.clock, "recovery", x)
		}
		e.forgetKey(s)
	}
}

func agrees(key, with []string) bool {
	for i, v := range with {
		if v != "" && v != key[i] {
			return false
		}
	}
	return true
}

// hit counts a hit, and raises or worsens.
func (e *Engine) hit(r *rule, v *Verdict, x *entry.Entry) {
	key := Written(v.Key)
	id := keyID(key)
	s := r.keys[id]
	if s != nil && s.alert == nil && e.clock.Sub(s.touched) >= r.forget {
		e.forgetKey(s)
		s = nil
	}
	if s == nil {
		e.sweep(r)
		s = &state{rule: r, key: key, blindAt: entry.None}
		s.armed = [3]entry.Instant{entry.None, entry.None, entry.None}
		r.keys[id] = s
	} else if s.alert == nil {
		r.unlink(s)
	}
	s.touched = e.clock
	if s.alert == nil {
		r.link(s)
	}
	if !slices.Contains(s.origins, x.Origin) && len(s.origins) < 64 {
		s.origins = append(s.origins, x.Origin)
	}
	at := s.add(x.At)
	if a := s.alert; a != nil {
		a.count++
		a.first, a.last = min(a.first, x.At), max(a.last, x.At)
		a.vars = v.Vars
		e.worsen(s, at, x)
		if r.Quiet > 0 {
			if due := s.last.Add(r.Quiet); due > a.quiet {
				a.quiet = due
				e.arm(s, classClear, due)
			}
		}
		return
	}
	if best := s.holding(at, 0); best >= 0 {
		e.raise(s, best, at, x, v.Vars)
	}
}

// add counts a hit of that own time, and returns where it stands among the kept
// ones: -1 where it is not kept.
func (s *state) add(t entry.Instant) int {
	if s.count == 0 {
		s.first, s.last = t, t
	}
	s.count++
	s.first, s.last = min(s.first, t), max(s.last, t)
	if s.rule.most == 0 {
		return -1
	}
	i := len(s.hits)
	for i > 0 && s.hits[i-1] > t {
		i--
	}
	if i == 0 && len(s.hits) >= s.rule.most {
		return -1
	}
	s.hits = slices.Insert(s.hits, i, t)
	if n := len(s.hits) - s.rule.most; n > 0 {
		s.hits = slices.Delete(s.hits, 0, n)
		i -= n
	}
	return i
}

// holding returns the highest raise above that severity which holds with the hit
// at place at, of several the first written; -1 where none holds.
func (s *state) holding(at int, above entry.Severity) int {
	best := -1
	for i := range s.rule.Raises {
		r := &s.rule.Raises[i]
		if r.Severity <= above || best >= 0 && r.Severity <= s.rule.Raises[best].Severity {
			continue
		}
		if _, ok := s.window(r, at); ok {
			best = i
		}
	}
	return best
}

// window finds the newest N kept hits around the one at place at that lie within
// less than D of each other, and returns where they begin.
func (s *state) window(r *lang.Raise, at int) (int, bool) {
	if r.In == 0 {
		return 0, s.count >= r.At
	}
	low := max(0, len(s.hits)-2*r.At) // of which the newest 2N are this raise's
	if at < low {
		return 0, false
	}
	for i := min(at, len(s.hits)-r.At); i >= max(low, at-r.At+1); i-- {
		if s.hits[i+r.At-1].Sub(s.hits[i]) < r.In {
			return i, true
		}
	}
	return 0, false
}

func (e *Engine) raise(s *state, which, at int, x *entry.Entry, vars []entry.Field) {
	r := &s.rule.Raises[which]
	a := &alert{severity: r.Severity, raised: e.clock, count: r.At, first: s.first, last: s.last, quiet: entry.None, vars: vars, why: r.Why()}
	if r.In > 0 {
		i, _ := s.window(r, at)
		a.first, a.last = s.hits[i], s.hits[i+r.At-1]
	}
	a.id = alertID(s.rule.Name, s.key, e.clock, x)
	s.rule.unlink(s)
	s.alert = a
	s.rule.open++
	e.tell(s, Raised, e.clock, a.why, x)
	if s.rule.Quiet > 0 {
		a.quiet = entry.Later(s.last, a.raised).Add(s.rule.Quiet)
		e.arm(s, classClear, a.quiet)
	}
}

func (e *Engine) worsen(s *state, at int, x *entry.Entry) {
	if best := s.holding(at, s.alert.severity); best >= 0 {
		r := &s.rule.Raises[best]
		s.alert.severity = r.Severity
		s.alert.why = r.Why()
		e.tell(s, Worsened, e.clock, s.alert.why, x)
	}
}

// tell emits a transition that people are told, from which reminders count.
func (e *Engine) tell(s *state, change string, at entry.Instant, why string, x *entry.Entry) {
	e.emit(s, change, at, why, x)
	s.alert.told = at
	if s.rule.Remind > 0 {
		e.arm(s, classRemind, at.Add(s.rule.Remind))
	}
}

func (e *Engine) clear(s *state, at entry.Instant, why string, x *entry.Entry) {
	e.emit(s, Cleared, at, why, x)
	s.alert = nil
	s.rule.open--
	s.touched = e.clock
	s.rule.link(s)
}

// forgetKey lets the key start from zero.
func (e *Engine) forgetKey(s *state) {
	if s.alert == nil {
		s.rule.unlink(s)
	}
	delete(s.rule.keys, keyID(s.key))
	s.armed = [3]entry.Instant{entry.None, entry.None, entry.None}
}

// sweep lets go of keys that have been idle for too long, or are too many.
func (e *Engine) sweep(r *rule) {
	for s := r.oldest; s != nil && e.clock.Sub(s.touched) >= r.forget; s = r.oldest {
		e.forgetKey(s)
	}
	if len(r.keys) >= MaxKeys && r.oldest != nil {
		e.Dropped++
		e.forgetKey(r.oldest)
	}
}

// link puts a key behind the other ones without an open alert.
func (r *rule) link(s *state) {
	s.older, s.newer = r.newest, nil
	if r.newest != nil {
		r.newest.newer = s
	} else {
		r.oldest = s
	}
	r.newest = s
}

func (r *rule) unlink(s *state) {
	if s.older == nil && r.oldest != s {
		return
	}
	if s.older != nil {
		s.older.newer = s.newer
	} else {
		r.oldest = s.newer
	}
	if s.newer != nil {
		s.newer.older = s.older
	} else {
		r.newest = s.older
	}
	s.older, s.newer = nil, nil
}
