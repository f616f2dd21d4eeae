package notify

import (
	"encoding/json"
	"log/slog"
	"slices"
	"time"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/snapshot"
	"dimlantern/store"
)

// Decider decides who is told of a transition, and what is kept quiet, and writes that
// into the batch that is being made. It belongs to the loop.
type Decider struct {
	Store *store.Store
	Batch *store.Batch // that is being made
	Log   *slog.Logger
	Wake  func() // tells the outbox that there may be something
	// What the loop goes by now.
	Settings *lang.Settings
	Engine   *engine.Engine
	// Catching tells that the present has not been reached, Editing that an edit is being
	// taken up: what is found in the past is told later.
	Catching, Editing bool

	// Elsewhere tells of a rule that others are told of it by the centre; nil where none is.
	Elsewhere func(rule string) bool
	// CutOff are the contacts that are told of such a rule all the same, since the centre cannot be reached.
	CutOff func(t *engine.Transition) []string
	// ToldThere tells of a transition that the host has told of it by itself; nil where none does.
	ToldThere func(t *engine.Transition) bool
	Hushes    []api.ByHand          // by people
	Taken     map[string]string     // open alerts that somebody has taken, and who
	quiet     map[string]quietAlert // open ones whose newest raise was not told
	Caught    bool                  // what happened while the present was not reached has been told
	opens     map[string]opening
	looked    time.Time // when it was last looked whether what keeps alerts quiet has ended
}

// quietAlert is whose alert it is, and why it is not told.
type quietAlert struct {
	Why  engine.Untold `json:"why"`
	Rule string        `json:"rule"`
	Key  []string      `json:"key"`
}

// keepQuiet notes that an alert is open and was not told, or, with nil, no longer.
func (s *Decider) keepQuiet(alert string, q *quietAlert) {
	if q == nil {
		if _, was := s.quiet[alert]; !was {
			return
		}
		delete(s.quiet, alert)
	} else {
		s.quiet[alert] = *q
	}
	if s.Batch.Quiet == nil {
		s.Batch.Quiet = map[string][]byte{}
	}
	var line []byte
	if q != nil {
		line, _ = json.Marshal(q)
	}
	s.Batch.Quiet[alert] = line
}

// setTaken notes who has taken an alert; "" is nobody.
func (s *Decider) setTaken(alert, by string) {
	if s.Taken[alert] == by {
		return
	}
	if s.Taken[alert] = by; by == "" {
		delete(s.Taken, alert)
	}
	b, _ := json.Marshal(s.Taken)
	s.Batch.SetMeta("taken", b)
}

// keyNow are the values of the key of a transition in the order that its rule has now; a
// field that it did not have then is "".
func keyNow(settings *lang.Settings, t *engine.Transition) []string {
	r := settings.Rule(t.Rule)
	if r == nil {
		return nil
	}
	key := make([]string, len(r.Per))
	for i, f := range r.Per {
		key[i] = t.Value(f)
	}
	if t.Reporter != "" {
		key = append(key, t.Reporter)
	}
	return key
}

// openAlert is the state of a key, if that alert of it is open.
func (s *Decider) openAlert(alert, rule string, key []string) (engine.KeyView, bool) {
	k, ok := s.Engine.KeyOf(rule, key)
	return k, ok && k.Alert == alert
}

// opening is when a contact's hours begin, as it was found at a minute.
type opening struct {
	minute int64
	at     entry.Instant
}

// Recover takes up what was kept of it.
func (s *Decider) Recover() error {
	s.opens, s.quiet, s.Taken = map[string]opening{}, map[string]quietAlert{}, map[string]string{}
	lines, err := s.Store.Quiet()
	if err != nil {
		return err
	}
	for alert, line := range lines {
		var q quietAlert
		if json.Unmarshal(line, &q) == nil {
			s.quiet[alert] = q
		}
	}
	for name, into := range map[string]any{"taken": &s.Taken, "hushes": &s.Hushes} {
		b, err := s.Store.Meta(name)
		if err == nil && b != nil {
			err = json.Unmarshal(b, into)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Take notes on a transition why it is not told, or decides who is told of it.
func (s *Decider) Take(t *engine.Transition) {
	switch t.Change {
	case engine.Taken:
		s.setTaken(t.Alert, t.By)
		return
	case engine.Noted, engine.Hushed, engine.Unhushed:
		if t.LetGo {
			s.setTaken(t.Alert, "")
		}
		return
	case engine.Cleared:
		if t.Untold = s.quietBecause(t); t.Untold == "" {
			s.decide(t)
		}
		s.keepQuiet(t.Alert, nil)
		s.setTaken(t.Alert, "")
		return
	case engine.Reopened:
		s.setTaken(t.Alert, "")
	}
	if t.Untold = s.quietBecause(t); t.Untold == "" {
		if t.Change != engine.Repeated {
			s.keepQuiet(t.Alert, nil)
		}
		s.decide(t)
	} else if t.Change != engine.Repeated && !s.Catching && !s.Editing { // see tellCaughtUp
		s.keepQuiet(t.Alert, &quietAlert{t.Untold, t.Rule, t.StateKey()})
	}
}

// facts are what keeps alerts quiet now.
func (s *Decider) facts() *facts { return &facts{s.Settings, s.Hushes, s.Engine.OpenOf} }

// quietBecause is why a transition is told nobody; "" where it is told.
func (s *Decider) quietBecause(t *engine.Transition) engine.Untold {
	if s.Catching || s.Editing && t.Change != engine.Cleared {
		return engine.CatchingUp
	}
	return s.facts().because(t)
}

// recipient is a contact that is told of a transition: not before due, and then only on a
// condition.
type recipient struct {
	contact, only string
	due           entry.Instant
}

// recipients are who is told of a transition.
func (s *Decider) recipients(r *lang.Rule, t *engine.Transition, now entry.Instant) (out []recipient) {
	add := func(name, only string, due entry.Instant) {
		c := s.Settings.Contact(name)
		if c == nil || c.Off || t.Severity < c.From || len(c.On) > 0 && !slices.Contains(c.On, t.Change) ||
			slices.ContainsFunc(out, func(x recipient) bool { return x.contact == name }) {
			return
		}
		if at := s.opensAt(c, now); at > due {
			due = at
			if only == "" {
				if only = store.OnlyOpen; t.Change == engine.Cleared {
					only = store.OnlyTold
				}
			}
		}
		out = append(out, recipient{name, only, due})
	}
	tells := r.Tells
	if !slices.ContainsFunc(tells, func(x lang.Tell) bool { return x.Untaken == 0 }) {
		tells = append(slices.Clone(tells), lang.Tell{Contacts: s.defaultContacts(r, t)})
	}
	for _, x := range tells {
		if x.Untaken > 0 || t.Severity < x.From || len(x.On) > 0 && !slices.Contains(x.On, t.Change) {
			continue
		}
		for _, name := range x.Contacts {
			add(name, "", now)
		}
	}
	for _, x := range tells {
		if x.Untaken == 0 || t.Severity < x.From {
			continue
		}
		for _, name := range x.Contacts {
			switch t.Change {
			case engine.Raised, engine.Reopened:
				add(name, store.OnlyUntaken, now.Add(x.Untaken))
			default: // who has been told that it is open is told how it goes on
				add(name, store.OnlyTold, now)
			}
		}
	}
	return out
}

// decide writes into the batch who is told of a transition.
func (s *Decider) decide(t *engine.Transition) {
	r := s.Settings.Rule(t.Rule)
	if r == nil || len(s.Settings.Contacts) == 0 || s.ToldThere != nil && s.ToldThere(t) {
		return
	}
	now := entry.Of(time.Now())
	var who []recipient
	if s.Elsewhere != nil && t.Reporter == "" && s.Elsewhere(t.Rule) {
		for _, c := range s.CutOff(t) {
			who = append(who, recipient{c, "", now})
		}
	} else {
		who = s.recipients(r, t, now)
	}
	if len(who) == 0 {
		return
	}
	line, err := t.MarshalJSON()
	if err != nil {
		return
	}
	for _, x := range who {
		s.Batch.Tellings = append(s.Batch.Tellings,
			store.Telling{Contact: x.contact, Alert: t.Alert, Change: t.Change, Severity: t.Severity, Made: now,
				Due: x.due, Only: x.only, Line: string(line)})
	}
	s.Wake()
}

// defaultContacts are who is told where a rule names nobody. Of a contact that cannot be
// reached all others are told where the settings name none but that one.
func (s *Decider) defaultContacts(r *lang.Rule, t *engine.Transition) []string {
	if r.Name != snapshot.Unreachable || !snapshot.BuiltIn(r) || len(t.Key) == 0 {
		return s.Settings.Tell
	}
	others := func(list []string) (out []string) {
		for _, n := range list {
			if n != t.Key[0] {
				out = append(out, n)
			}
		}
		return out
	}
	if list := others(s.Settings.Tell); len(list) > 0 {
		return list
	}
	var all []string
	for _, c := range s.Settings.Contacts {
		all = append(all, c.Name)
	}
	return others(all)
}

// opensAt is when a contact may be told: now, or when its hours begin.
func (s *Decider) opensAt(c *lang.Contact, now entry.Instant) entry.Instant {
	if len(c.Hours) == 0 {
		return now
	}
	minute := int64(now) / int64(time.Minute)
	if o, ok := s.opens[c.Name]; ok && o.minute == minute {
		return max(o.at, now)
	}
	at := opensAt(c, snapshot.ZoneOf(s.Settings), now)
	s.opens[c.Name] = opening{minute, at}
	return at
}

// opensAt is when a contact's hours begin, or now, where it is in them.
func opensAt(c *lang.Contact, zone *time.Location, now entry.Instant) entry.Instant {
	hours := &lang.Rule{During: c.Hours, Zone: zone}
	if hours.Inside(now) {
		return now
	}
	at := now / entry.Instant(time.Minute) * entry.Instant(time.Minute)
	for n := 0; n < 8*24*60 && !hours.Inside(at); n++ {
		at = at.Add(time.Minute)
	}
	return at
}

// It is looked so often whether what keeps alerts quiet has ended, for so many at once.
const (
	quietAtOnce = 500
)

// Release tells of alerts that are still open when the hush or the shadow ends that
// kept them quiet.
func (s *Decider) Release(now time.Time) {
	x := s
	x.looked = now
	if !x.Caught {
		return
	}
	looked := 0
	for id, q := range x.quiet {
		if looked++; looked > quietAtOnce { // the others next time: no order is kept
			break
		}
		k, open := s.openAlert(id, q.Rule, q.Key)
		if !open {
			s.keepQuiet(id, nil)
			continue
		}
		if s.facts().still(&k, q.Why, now) {
			continue
		}
		s.keepQuiet(id, nil)
		if t, ok := s.asItIs(&k, now); ok {
			s.decide(t)
		}
	}
}

// ofHost takes the joined host that reported an alert out of the key of a transition.
func ofHost(t *engine.Transition) {
	if n := len(t.Fields); len(t.Key) == n+1 {
		t.Key, t.Reporter = t.Key[:n], t.Key[n]
	}
}

// asItIs is an open alert as a raise that is told now.
func (s *Decider) asItIs(k *engine.KeyView, now time.Time) (*engine.Transition, bool) {
	r := s.Settings.Rule(k.Rule)
	if r == nil {
		return nil, false
	}
	t := &engine.Transition{At: entry.Of(now), Change: engine.Raised, Rule: k.Rule, Fields: r.Per, Key: k.Key,
		Severity: k.Severity, Alert: k.Alert, Count: k.Count,
		First: entry.None, Last: k.Last, Why: k.Why}
	ofHost(t)
	if last, ok := s.Store.LastRaise(k.Alert); ok {
		t.Say, t.First = last.Say, last.First
	}
	return t, true
}

// Blind tells those contacts that ask for it of a log that cannot be seen, or can again.
func (s *Decider) Blind(origin, words string, blind bool) {
	if s.Catching {
		return
	}
	now := entry.Of(time.Now())
	for _, c := range s.Settings.Contacts {
		if c.Off || !slices.Contains(c.On, "blind") {
			continue
		}
		line, _ := json.Marshal(blindNews{origin, words, blind})
		s.Batch.Tellings = append(s.Batch.Tellings,
			store.Telling{Contact: c.Name, Change: "blind", Severity: entry.Warning, Made: now,
				Due: s.opensAt(c, now), Line: string(line)})
	}
	s.Wake()
}

type blindNews struct {
	Origin string `json:"origin"`
	Words  string `json:"words"`
	Blind  bool   `json:"blind"`
}

// Looked is when it was last looked whether what keeps alerts quiet has ended.
func (s *Decider) Looked() time.Time { return s.looked }

// Quiet are the open alerts whose newest raise was not told, and why.
func (s *Decider) Quiet() map[string]engine.Untold {
	out := make(map[string]engine.Untold, len(s.quiet))
	for alert, q := range s.quiet {
		out[alert] = q.Why
	}
	return out
}

// KeepHushes writes the hushes of people into the batch.
func (s *Decider) KeepHushes() {
	b, _ := json.Marshal(s.Hushes)
	s.Batch.SetMeta("hushes", b)
}

// SumUp lets what an edit found to have opened in the past be told in one summary.
func (s *Decider) SumUp() { s.Caught = s.Caught && s.Catching }

// TellNow tells of an open alert as it is.
func (s *Decider) TellNow(k *engine.KeyView, now time.Time) {
	if t, ok := s.asItIs(k, now); ok {
		s.decide(t)
	}
}
