package service

import (
	"encoding/json"
	"slices"
	"time"

	"dimlantern/folder"

	"dimlantern/api"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/store"
)

// telling is what the service knows of what is told, and what is kept quiet. The service's
// lock guards it.
type telling struct {
	quiet  map[string]quietAlert // open ones whose newest raise was not told
	hushes []api.ByHand          // by people
	taken  map[string]string     // open alerts that somebody has taken, and who
	caught bool                  // what happened while the present was not reached has been told
	opens  map[string]opening
	// editing tells that an edit is being taken up: what it finds in the past is told later.
	editing bool
	looked  time.Time // when it was last looked whether what keeps alerts quiet has ended
	wake    chan struct{}
	out     []store.Outgoing // what waits, as it was looked at last
	held    []string         // contacts whose limit is reached, in words
}

// quietAlert is whose alert it is, and why it is not told.
type quietAlert struct {
	Why  engine.Untold `json:"why"`
	Rule string        `json:"rule"`
	Key  []string      `json:"key"`
}

// keepQuiet notes that an alert is open and was not told, or, with nil, no longer.
func (s *Service) keepQuiet(alert string, q *quietAlert) {
	if q == nil {
		if _, was := s.telling.quiet[alert]; !was {
			return
		}
		delete(s.telling.quiet, alert)
	} else {
		s.telling.quiet[alert] = *q
	}
	if s.batch.Quiet == nil {
		s.batch.Quiet = map[string][]byte{}
	}
	var line []byte
	if q != nil {
		line, _ = json.Marshal(q)
	}
	s.batch.Quiet[alert] = line
}

// setTaken notes who has taken an alert; "" is nobody.
func (s *Service) setTaken(alert, by string) {
	if s.telling.taken[alert] == by {
		return
	}
	if s.telling.taken[alert] = by; by == "" {
		delete(s.telling.taken, alert)
	}
	b, _ := json.Marshal(s.telling.taken)
	s.setMeta("taken", b)
}

// keyNow are the values of the key of a transition in the order that its rule has now; a
// field that it did not have then is "".
func (s *Service) keyNow(t *engine.Transition) []string {
	r := s.settings.Rule(t.Rule)
	if r == nil {
		return nil
	}
	key := make([]string, len(r.Per))
	for i, f := range r.Per {
		key[i] = t.Value(f)
	}
	return key
}

// openAlert is the state of a key, if that alert of it is open.
func (s *Service) openAlert(alert, rule string, key []string) (engine.KeyView, bool) {
	k, ok := s.engine.KeyOf(rule, key)
	return k, ok && k.Alert == alert
}

// opening is when a contact's hours begin, as it was found at a minute.
type opening struct {
	minute int64
	at     entry.Instant
}

// recoverTelling takes up what was kept of it.
func (s *Service) recoverTelling() error {
	t := &s.telling
	t.opens, t.wake = map[string]opening{}, make(chan struct{}, 1)
	t.quiet, t.taken = map[string]quietAlert{}, map[string]string{}
	lines, err := s.store.Quiet()
	if err != nil {
		return err
	}
	for alert, line := range lines {
		var q quietAlert
		if json.Unmarshal(line, &q) == nil {
			t.quiet[alert] = q
		}
	}
	if b, err := s.store.Meta("taken"); err != nil {
		return err
	} else if b != nil {
		if err := json.Unmarshal(b, &t.taken); err != nil {
			return err
		}
	}
	b, err := s.store.Meta("hushes")
	if err != nil || b == nil {
		return err
	}
	return json.Unmarshal(b, &t.hushes)
}

// tell notes on a transition why it is not told, or decides who is told of it.
func (s *Service) tell(t *engine.Transition) {
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
	} else if t.Change != engine.Repeated && !s.catching && !s.telling.editing { // see tellCaughtUp
		s.keepQuiet(t.Alert, &quietAlert{t.Untold, t.Rule, t.Key})
	}
}

// quietBecause is why a transition is told nobody; "" where it is told.
func (s *Service) quietBecause(t *engine.Transition) engine.Untold {
	if s.catching || s.telling.editing && t.Change != engine.Cleared {
		return engine.CatchingUp
	}
	if t.Untold != "" {
		return t.Untold
	}
	x := *t
	if trial.MarkHushed(s.settings, &x); x.Untold != "" {
		return x.Untold
	}
	r := s.settings.Rule(t.Rule)
	now := entry.Of(time.Now()) // what comes late is kept quiet as well
	for i := range s.telling.hushes {
		if h := &s.telling.hushes[i]; h.Holds(now) && h.Covers(r, t.Alert, t.Rule, t.Fields, t.Key) {
			return engine.ByHush
		}
	}
	return ""
}

// recipient is a contact that is told of a transition: not before due, and then only on a
// condition.
type recipient struct {
	contact, only string
	due           entry.Instant
}

// recipients are who is told of a transition.
func (s *Service) recipients(r *lang.Rule, t *engine.Transition, now entry.Instant) (out []recipient) {
	add := func(name, only string, due entry.Instant) {
		c := s.settings.Contact(name)
		if c == nil || c.Off || t.Severity < c.From || len(c.On) > 0 && !slices.Contains(c.On, t.Change) || slices.ContainsFunc(out, func(x recipient) bool { return x.contact == name }) {
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
func (s *Service) decide(t *engine.Transition) {
	r := s.settings.Rule(t.Rule)
	if r == nil || len(s.settings.Contacts) == 0 {
		return
	}
	now := entry.Of(time.Now())
	who := s.recipients(r, t, now)
	if len(who) == 0 {
		return
	}
	line, err := t.MarshalJSON()
	if err != nil {
		return
	}
	for _, x := range who {
		s.batch.Tellings = append(s.batch.Tellings, store.Telling{Contact: x.contact, Alert: t.Alert, Change: t.Change, Severity: t.Severity, Made: now, Due: x.due, Only: x.only, Line: string(line)})
	}
	s.wakeTelling()
}

// defaultContacts are who is told where a rule names nobody. Of a contact that cannot be
// reached all others are told where the settings name none but that one.
func (s *Service) defaultContacts(r *lang.Rule, t *engine.Transition) []string {
	if r.Name != unreachableRule || !builtIn(r) || len(t.Key) == 0 {
		return s.settings.Tell
	}
	others := func(list []string) (out []string) {
		for _, n := range list {
			if n != t.Key[0] {
				out = append(out, n)
			}
		}
		return out
	}
	if list := others(s.settings.Tell); len(list) > 0 {
		return list
	}
	var all []string
	for _, c := range s.settings.Contacts {
		all = append(all, c.Name)
	}
	return others(all)
}

// opensAt is when a contact may be told: now, or when its hours begin.
func (s *Service) opensAt(c *lang.Contact, now entry.Instant) entry.Instant {
	if len(c.Hours) == 0 {
		return now
	}
	minute := int64(now) / int64(time.Minute)
	if o, ok := s.telling.opens[c.Name]; ok && o.minute == minute {
		return max(o.at, now)
	}
	hours := &lang.Rule{During: c.Hours, Zone: s.zone()}
	at := now
	if !hours.Inside(at) {
		at = entry.Instant(minute * int64(time.Minute))
		for n := 0; n < 8*24*60 && !hours.Inside(at); n++ {
			at = at.Add(time.Minute)
		}
	}
	s.telling.opens[c.Name] = opening{minute, at}
	return at
}

// zone is the zone in which days begin.
func (s *Service) zone() *time.Location {
	if s.settings.Zone != "" {
		if z := folder.Zone(s.settings.Zone); z != nil {
			return z
		}
	}
	return time.Local
}

func (s *Service) wakeTelling() {
	select {
	case s.telling.wake <- struct{}{}:
	default:
	}
}

// It is looked so often whether what keeps alerts quiet has ended, for so many at once.
const (
	quietEvery  = time.Second
	quietAtOnce = 500
)

// releaseQuiet tells of alerts that are still open when the hush or the shadow ends that
// kept them quiet.
func (s *Service) releaseQuiet(now time.Time) {
	x := &s.telling
	if now.Sub(x.looked) < quietEvery || s.catching {
		return
	}
	x.looked = now
	s.endHushes(now)
	if !x.caught {
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
		if s.stillQuiet(&k, q.Why, now) {
			continue
		}
		s.keepQuiet(id, nil)
		if t, ok := s.asItIs(&k, now); ok {
			s.decide(t)
		}
	}
}

// stillQuiet tells whether an open alert is kept quiet now.
func (s *Service) stillQuiet(k *engine.KeyView, why engine.Untold, now time.Time) bool {
	r := s.settings.Rule(k.Rule)
	if r == nil {
		return false
	}
	if rule, shadowed := why.Shadow(); shadowed && s.inShadow(k, rule) {
		return true
	}
	return s.quietBecause(&engine.Transition{At: entry.Of(now), Change: engine.Raised, Rule: k.Rule, Fields: r.Per, Key: k.Key, Severity: k.Severity, Alert: k.Alert}) != ""
}

// inShadow tells whether an alert of a bigger rule is open with the fields that they share.
func (s *Service) inShadow(k *engine.KeyView, bigger string) bool {
	a, b := s.settings.Rule(k.Rule), s.settings.Rule(bigger)
	if a == nil || b == nil {
		return false
	}
	for _, u := range a.Unless {
		if u.Rule == bigger && slices.ContainsFunc(s.engine.OpenOf(bigger), func(key []string) bool { return sharesKey(u.Same, a, k.Key, b, key) }) {
			return true
		}
	}
	return false
}

// asItIs is an open alert as a raise that is told now.
func (s *Service) asItIs(k *engine.KeyView, now time.Time) (*engine.Transition, bool) {
	r := s.settings.Rule(k.Rule)
	if r == nil {
		return nil, false
	}
	t := &engine.Transition{At: entry.Of(now), Change: engine.Raised, Rule: k.Rule, Fields: r.Per, Key: k.Key, Severity: k.Severity, Alert: k.Alert, Count: k.Count,
		First: entry.None, Last: k.Last, Why: k.Why}
	if last, ok := s.store.LastRaise(k.Alert); ok {
		t.Say, t.First = last.Say, last.First
	}
	return t, true
}

// tellBlind tells those contacts that ask for it of a log that cannot be seen, or can again.
func (s *Service) tellBlind(origin, words string, blind bool) {
	if s.catching {
		return
	}
	now := entry.Of(time.Now())
	for _, c := range s.settings.Contacts {
		if c.Off || !slices.Contains(c.On, "blind") {
			continue
		}
		line, _ := json.Marshal(blindNews{origin, words, blind})
		s.batch.Tellings = append(s.batch.Tellings, store.Telling{Contact: c.Name, Change: "blind", Severity: entry.Warning, Made: now, Due: s.opensAt(c, now), Line: string(line)})
	}
	s.wakeTelling()
}

type blindNews struct {
	Origin string `json:"origin"`
	Words  string `json:"words"`
	Blind  bool   `json:"blind"`
}
