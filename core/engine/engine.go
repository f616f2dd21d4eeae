// Package engine turns judged entries and instants into transitions of alerts.
// It has no clock, no file and no screen: the same entries and instants give the
// same transitions, byte for byte, whether they come live, from a replay, from
// the bench or from a test. Timers are data in its state; Advance fires those
// that are due, in order, each at its own deadline.
package engine

import (
	"slices"
	"time"

	"dimlantern/core/verdict"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// idle is the least time after which a key without an open alert is forgotten.
const idle = 7 * 24 * time.Hour

// Engine holds the state of all rules for all keys. It is not for several
// goroutines at once.
type Engine struct {
	rules   []*rule
	relayed map[string]*rule // that joined hosts judge; see Relayed
	clock   entry.Instant
	timers  timers
	held    map[int]entry.Instant // see Hold
	aside   []timer               // that fell due beyond what their rules are held to
	blind   map[string]entry.Instant
	rest    map[string]entry.Instant // origins that nobody reads on purpose; see Rest
	out     []Transition
	shown   *shown
	encoded int // bytes of the state, as it was encoded last
	// MostKeys is how many keys a rule keeps: past that the longest idle one without an
	// open alert goes. Dropped counts those that went.
	MostKeys int
	Dropped  int64
	// Reporter is the name under which this machine has joined a centre, from which its alerts get identifiers
	// that no other host has; "" where it has not.
	Reporter string
	// Hits and Recoveries count verdicts.
	Hits, Recoveries int64
	// Now measures time where it is set: one of costEvery verdicts is timed.
	Now  func() time.Duration
	turn int
}

// costEvery is how many verdicts stand for each that is timed.
const costEvery = 16

// Cost is what a rule has done, and has cost.
type Cost struct {
	Rule string
	Keys int
	Open int
	Hits int64         // since it is known
	Last entry.Instant // the own time of the newest hit or awaited entry; None: never
	Took time.Duration // what its state took since the engine began, measured on a sample
}

// Costs are what the rules have done, in the engine's order.
func (e *Engine) Costs() []Cost {
	var out []Cost
	for _, r := range e.rules {
		out = append(out, Cost{r.Name, len(r.keys), r.open, r.hits, r.last, r.took})
	}
	return out
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

	whens    []*lang.When // of the raises, then of the clears
	raiseOf  []int        // the raise of each; -1 is a clear
	fields   []int        // the place of each one's field in what the rule measures; -1 is none
	differs  []int        // of each raise the place of its field; -1 is none
	own      []bool       // of each raise, whether it keeps hits of its own
	owns     bool         // some does
	lasts    bool         // a key stays known when it starts from zero
	eases    bool
	origin   bool          // the origin itself gives the key
	shortest time.Duration // of the times without
	began    entry.Instant // when watching began, of a rule that awaits

	hits int64
	last entry.Instant
	took time.Duration
}

// state is what is known of one key of one rule.
type state struct {
	rule    *rule
	key     []string // values as written: a lacking one is ?
	touched entry.Instant
	zero    entry.Instant   // when it was first seen, or last started from zero
	hits    []entry.Instant // the newest own times, sorted
	count   int             // hits since the key started from zero
	first   entry.Instant   // the earliest and latest of them
	last    entry.Instant
	own     []ownHits // by raise; nil where none keeps its own
	wins    []window  // by when

	recovered []entry.Instant // own times of recoveries that do not suffice yet
	wait      waiting
	past      *past // the alert that was cleared last, where one may reopen

	origins      []string // that gave it an entry
	blindAt      entry.Instant
	alert        *alert
	older, newer *state
	armed        [3]entry.Instant // the deadlines that stand in the heap, by class
	place        int              // in the list of a View, from 1; 0 has none yet, -1 went
	stale        bool             // it has changed since the last View
}

type alert struct {
	id       string
	severity entry.Severity
	raised   entry.Instant
	since    entry.Instant // when it was raised or reopened
	count    int
	first    entry.Instant
	last     entry.Instant
	told     entry.Instant
	darks    [][2]entry.Instant // when its key could not be seen
	blind    bool               // nothing but that its origins are blind has raised it
	taken    bool
	vars     []entry.Field
	why      string
}

// past is what goes on when an alert is reopened.
type past struct {
	id      string
	cleared entry.Instant
	raised  entry.Instant
	count   int
	first   entry.Instant
	last    entry.Instant
}

// New returns an engine for rules, which must be in the order in which they are judged:
// see lang.Ordered. Rules that are off must not be among them.
func New(rules []*lang.Rule) *Engine {
	e := &Engine{clock: entry.None, blind: map[string]entry.Instant{}, MostKeys: lang.DefaultKeys}
	for i, r := range rules {
		e.rules = append(e.rules, newRule(i, r))
	}
	return e
}

func newRule(i int, r *lang.Rule) *rule {
	x := &rule{Rule: r, index: i, forget: idle, keys: map[string]*state{}, vars: r.Vars(), began: entry.None,
		last: entry.None}
	measured := r.Measured()
	for k := range r.Raises {
		a := &r.Raises[k]
		own := a.Hits() && (a.Different != "" || a.Where != nil || a.Then != nil)
		x.own = append(x.own, own)
		x.owns = x.owns || own
		x.differs = append(x.differs, slices.Index(measured, a.Different))
		if a.In > 0 && !own {
			x.most = max(x.most, 2*a.At)
		}
		if a.When != nil {
			x.raiseOf = append(x.raiseOf, k)
		}
		if a.Without > 0 && (x.shortest == 0 || a.Without < x.shortest) {
			x.shortest = a.Without
		}
	}
	for range r.ClearWhens {
		x.raiseOf = append(x.raiseOf, -1)
	}
	x.whens = r.Whens()
	for _, w := range x.whens {
		x.fields = append(x.fields, slices.Index(measured, w.Field))
	}
	x.eases = r.Eases()
	x.lasts = len(x.whens) > 0 || r.Awaits != nil || r.Reopen > 0 || r.Blind > 0
	x.origin = len(r.Per) > 0 && !slices.ContainsFunc(r.Per,
		func(f string) bool { return !slices.Contains([]string{"origin", "source", "channel", "host"}, f) })
	if longest := r.Longest(); longest > idle/2 {
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

// take judges one entry.
//
// Of what an entry may be for a rule, the first counts that is so: it completes a
// sequence; it is a recovery; a hit or what is awaited; a question. Of a share it is
// counted besides.
func (e *Engine) take(j *verdict.Judged) {
	e.follow(j)
	reached := j.Reached
	for i := range j.Verdicts {
		if v := &j.Verdicts[i]; e.rules[v.Rule].Arrival {
			reached = entry.Later(reached, v.At)
		}
	}
	e.fire(reached)
	e.clock = entry.Later(e.clock, reached)
	if _, blind := e.blind[j.Entry.Origin]; blind {
		e.seen(j.Entry.Origin, e.clock)
	}
	for i := range j.Verdicts {
		v := &j.Verdicts[i]
		r := e.rules[v.Rule]
		if r.Arrival { // an entry arrives at the clock
			v.At = e.clock
		}
		e.turn++
		if e.Now == nil || e.turn%costEvery != 0 {
			e.judge(r, v, j.Entry)
			continue
		}
		began := e.Now()
		e.judge(r, v, j.Entry)
		r.took += costEvery * (e.Now() - began)
	}
	e.fire(e.clock)
}

// judge does what a verdict says.
func (e *Engine) judge(r *rule, v *verdict.Verdict, x *entry.Entry) {
	if v.Hit || v.Awaited {
		r.last = entry.Later(r.last, v.At)
	}
	if len(v.Follows) > 0 && e.followed(r, v, x) {
		return
	}
	switch {
	case v.Recovery:
		e.Recoveries++
		if !e.recover(r, v, x) && v.Counted {
			e.counted(r, v, x)
		}
	case v.Hit:
		e.Hits++
		r.hits++
		e.hit(r, v, x)
	case v.Awaited:
		e.heard(r, v, x)
	case v.Question:
		e.asked(r, v, x)
	case v.Counted:
		e.counted(r, v, x)
	}
}

// clearByHand ends an alert as a person wants it. It answers false where no such alert is
// open.
func (e *Engine) clearByHand(c Clear) bool {
	s := e.keyWith(c.Alert)
	if s == nil {
		return false
	}
	e.clock = entry.Later(e.clock, c.At)
	e.changed(s)
	e.clear(s, e.clock, "hand", nil)
	t := &e.out[len(e.out)-1]
	t.By, t.Words = c.By, c.Words
	s.wait.aged, s.wait.waits = true, s.wait.waits && s.rule.Once == nil
	e.restart(s)
	return true
}

// keyWith is the key whose open alert has an identifier; nil where none has.
func (e *Engine) keyWith(alert string) *state {
	for r := range e.every {
		if r.open == 0 {
			continue
		}
		for _, s := range r.keys {
			if s.alert != nil && s.alert.id == alert {
				return s
			}
		}
	}
	return nil
}

// every visits all rules, those that hosts judge behind the others.
func (e *Engine) every(visit func(*rule) bool) {
	for _, r := range e.rules {
		if !visit(r) {
			return
		}
	}
	for _, r := range e.relayed {
		if !visit(r) {
			return
		}
	}
}

// recover applies a recovery to every key that agrees with it: each starts from zero. It
// answers false where that ended nothing.
func (e *Engine) recover(r *rule, v *verdict.Verdict, x *entry.Entry) bool {
	if !r.OnRecovery {
		return false
	}
	ended := false
	for _, s := range r.agreeing(v.RecoveryKey) {
		e.changed(s)
		if !s.suffices(v.At) {
			continue
		}
		// Of a share, what ends no count is one of the entries, behind the start from zero.
		ended = ended || r.RecoverAt > 1 || s.alert != nil || s.count > 0 || s.wait.waits || !r.Shares()
		if s.alert != nil {
			e.clear(s, e.clock, "recovery", x)
		}
		s.wait.waits = false // a goodbye
		e.restart(s)
	}
	return ended
}

// suffices counts a recovery of a key, and tells whether there are enough by now.
func (s *state) suffices(at entry.Instant) bool {
	r := s.rule
	if r.RecoverAt <= 1 {
		return true
	}
	i := len(s.recovered)
	for i > 0 && s.recovered[i-1] > at {
		i--
	}
	s.recovered = slices.Insert(s.recovered, i, at)
	if n := len(s.recovered) - 2*r.RecoverAt; n > 0 {
		s.recovered = slices.Delete(s.recovered, 0, n)
		i -= n
	}
	if r.RecoverIn == 0 {
		return len(s.recovered) >= r.RecoverAt
	}
	for k := min(i, len(s.recovered)-r.RecoverAt); k >= max(0, i-r.RecoverAt+1); k-- {
		if s.recovered[k+r.RecoverAt-1].Sub(s.recovered[k]) < r.RecoverIn {
			return true
		}
	}
	return false
}

// hit counts a hit, and raises or worsens.
func (e *Engine) hit(r *rule, v *verdict.Verdict, x *entry.Entry) {
	s := e.known(r, v.Key, x.Origin)
	at := s.add(v.At)
	s.recovered = nil
	owned := s.addOwn(r, v)
	entered := e.enters(r, s, v, true)
	if a := s.alert; a != nil {
		a.count++
		if a.first == entry.None || v.At < a.first {
			a.first = v.At
		}
		a.last = entry.Later(a.last, v.At)
		a.vars = v.Vars
		if e.eases(s, entered, x) {
			return
		}
		if due := s.quiet(); due != entry.None {
			e.arm(s, classClear, due)
		}
	}
	e.rise(s, s.candidate(at, owned, entered), x, v.Vars)
	e.begins(s, owned, v.At)
}

// counted counts an entry that is no hit among those of a share.
func (e *Engine) counted(r *rule, v *verdict.Verdict, x *entry.Entry) {
	s := e.known(r, v.Key, x.Origin)
	entered := e.enters(r, s, v, false)
	if s.alert != nil && e.eases(s, entered, x) {
		return
	}
	e.rise(s, s.candidate(noHit, nil, entered), x, nil)
}

// enters takes an entry into the windows of a key, and judges those that it entered.
func (e *Engine) enters(r *rule, s *state, v *verdict.Verdict, hit bool) []bool {
	if len(r.whens) == 0 {
		return nil
	}
	entered := make([]bool, len(r.whens))
	for k, w := range r.whens {
		value := ""
		if i := r.fields[k]; hit && i >= 0 {
			value = v.Values[i]
		}
		if w.Agg == "share" && !v.Counted {
			continue
		}
		if s.enter(k, v.At, e.clock, hit, value) && (r.raiseOf[k] >= 0 || s.alert != nil) {
			said := r.weigh(w, &s.wins[k].tally, r.raiseOf[k] >= 0, e.clock.Add(-w.In) >= s.zero)
			s.say(k, said)
			s.wins[k].fresh = false
			entered[k] = said == holds || said == fails
		}
	}
	e.rearm(s)
	return entered
}

// eases clears an open alert where a number that was judged now says so.
func (e *Engine) eases(s *state, judged []bool, x *entry.Entry) bool {
	r := s.rule
	any := false
	for k, was := range judged {
		if !was {
			continue
		}
		any = any || r.raiseOf[k] >= 0
		if r.raiseOf[k] < 0 && s.wins[k].said {
			e.clear(s, e.clock, "eased", x)
			e.restart(s)
			return true
		}
	}
	if r.eases && any && s.eased() { // the number is watched without a break: nothing starts from zero
		e.clear(s, e.clock, "eased", x)
		return true
	}
	return false
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
	if a := s.alert; s.rule.Reopen > 0 {
		s.past = &past{id: a.id, cleared: at, raised: a.raised, count: a.count, first: a.first, last: a.last}
	}
	s.alert = nil
	s.rule.open--
	s.touched = e.clock
	s.rule.link(s)
}

// restart lets the key start from zero: it is forgotten, unless something goes on that
// is known of it.
func (e *Engine) restart(s *state) {
	if !s.rule.lasts {
		e.forgetKey(s)
		return
	}
	s.zero = e.clock
	s.hits, s.count, s.first, s.last = nil, 0, entry.None, entry.None
	s.recovered = nil
	for i := range s.own {
		s.own[i] = ownHits{}
	}
	s.wins = s.rule.newWindows(s.zero)
	e.rearm(s)
}
