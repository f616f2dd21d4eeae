package snapshot

import (
	"cmp"
	"fmt"
	"os"
	"slices"
	"sort"
	"time"

	"github.com/dustin/go-humanize/english"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/core/origin"
	"dimlantern/core/trial"
	"dimlantern/folder"
	"dimlantern/intake"
	"dimlantern/store"
)

// Snapshot is what the loop knew at the end of a round. It is never changed: whoever makes
// one gives everything in it away.
type Snapshot struct {
	*House
	At       time.Time
	Settings *lang.Settings
	Texts    []folder.Text
	Findings map[string]int // of the linter, by rule
	Engine   *engine.View
	Origins  []*intake.Origin // by source and series; see intake.Origin.Frozen
	Empty    map[string]string
	Ways     map[string]api.WayView // of sources whose entries exist nowhere else
	Unseen   []Unseen
	Hushes   []api.ByHand
	Taken    map[string]string        // open alerts that somebody has taken, and who
	Quiet    map[string]engine.Untold // open alerts whose newest raise was not told
	Notices  []api.Notice
	Spent    *Spent
	Trouble  map[string]string // what keeps the service from all of its work, by kind
	Stuck    time.Time         // since when nothing can be committed, where that is so
	Kept     string            // the folder of what is kept; "" where there is none
	Reading  bool              // not read to the end yet
	Catching bool              // since the start, the present has not been reached
	Waiting  []store.Outgoing  // what is to be told, by contact
	Limits   []string          // contacts whose limit is reached, in words
	// Deliveries are how they stand, by their names; Beyond is how many entries found no series of their
	// own in measures.
	Deliveries []api.Delivery
	Beyond     int64
	// Link is how the centre that was joined can be reached; nil where none was.
	Link *Link
	// Hosts are those that have joined this centre; nil where it is none.
	Hosts *Hosts
	// Seq grows with each change that a screen would show at once, Flow as entries come.
	Seq, Flow int64
}

// Spent is what rules and sources have cost since measuring began; it may be a second old.
type Spent struct {
	Since   entry.Instant
	Judged  map[string]int64         // entries, by rule
	Took    map[string]time.Duration // by rule, measured on a sample
	Sources map[string]SourceSpent
	Slow    map[string]match.Slow // the slowest entry of the last day, by rule
	Counted []Counted             // what measures have counted
	// Entries and Bytes are what was read of each source since the service began.
	Entries, Bytes map[string]int64
	Minute         map[string]int64         // judged in the last whole minute, by rule
	P95            map[string]time.Duration // of a minute, by rule
	Most           map[string]time.Duration
}

// SourceSpent is what reading a source has cost, and of that dividing its entries.
type SourceSpent struct {
	Reading, P95, Most    time.Duration // of a minute
	Entries, Minute       int64         // that were divided, and in the last whole minute
	Dividing, DividingP95 time.Duration
	DividingMost          time.Duration
	Slow                  match.Slow // the one that took longest to divide in the last day
}

// Counted is what a measure has counted.
type Counted struct {
	Name    string
	Series  int
	Entries int64
}

// Unseen is what a source says of a log that was never seen: no file fits its glob, its port
// cannot be opened, its channel not be reached. For rules it is a log that is blind.
type Unseen struct {
	Source      *lang.Source
	Name, Way   string // as an origin's
	Words, Mend string
}

// Origin is an origin by its name; nil where there is none.
func (s *Snapshot) Origin(name string) *intake.Origin {
	for _, o := range s.Origins {
		if o.Name == name {
			return o
		}
	}
	return nil
}

// Source is the source of an origin, as the settings have it now; nil where there is no
// such origin.
func (s *Snapshot) Source(origin string) *lang.Source {
	o := s.Origin(origin)
	if o == nil {
		return nil
	}
	if src := s.Settings.Source(o.Source.Name); src != nil {
		return src
	}
	return o.Source
}

// Zone is the zone in which days begin.
func (s *Snapshot) Zone() *time.Location { return ZoneOf(s.Settings) }

// ZoneOf is the zone in which days begin by some settings: theirs, or this machine's.
func ZoneOf(settings *lang.Settings) *time.Location {
	if settings.Zone != "" {
		if z := folder.Zone(settings.Zone); z != nil {
			return z
		}
	}
	return time.Local
}

// OpenOf are the keys of a rule whose alerts are open, in no order.
func (s *Snapshot) OpenOf(rule string) [][]string {
	var out [][]string
	s.Engine.Open(func(k *engine.KeyView) bool {
		if k.Rule == rule {
			out = append(out, k.Key)
		}
		return true
	})
	return out
}

// OpenAlert is the key with an alert, if that is open.
func (s *Snapshot) OpenAlert(alert, rule string, key []string) (engine.KeyView, bool) {
	k, ok := s.Engine.KeyOf(rule, key)
	return k, ok && k.Alert == alert
}

// HushedBy are the open alerts that a hush of a person keeps quiet, in the order of their
// identifiers.
func (s *Snapshot) HushedBy(h *api.ByHand) []engine.KeyView {
	var out []engine.KeyView
	s.Engine.Open(func(k *engine.KeyView) bool {
		if r := s.Settings.Rule(k.Rule); r != nil && h.Covers(r, k.Alert, k.Rule, r.Per, k.Key) {
			out = append(out, *k)
		}
		return true
	})
	slices.SortFunc(out, func(a, b engine.KeyView) int {
		if a.Alert < b.Alert {
			return -1
		}
		return 1
	})
	return out
}

// Again opens what the logs have said from an instant on that some rules look at: of each
// file its newest bytes, and no more than most. Before tells that what lay there at first
// sight is wanted as well. Whoever asks calls done when it has been read.
func (s *Snapshot) Again(settings *lang.Settings, from entry.Instant, rules []*lang.Rule, most int64,
	before bool) (inputs []*trial.Input, done func()) {
	var open []*intake.Again
	for _, o := range s.Origins {
		src := settings.Source(o.Source.Name)
		if src == nil || !slices.ContainsFunc(rules, func(r *lang.Rule) bool { return r.LooksAt(src.Name) }) {
			continue
		}
		said := o.Again(from, most, before)
		open = append(open, said)
		inputs = append(inputs, &trial.Input{Source: src, Path: o.Series, Host: o.Host, Origin: o.Name,
			Files: said.Files, Near: said.Near, Header: said.Header, Skew: o.Skew()})
	}
	return inputs, func() {
		for _, x := range open {
			x.Close()
		}
	}
}

// Troubles are what keeps the service from doing all of its work, in words.
func (s *Snapshot) Troubles() []string {
	out := []string{}
	for _, t := range s.Trouble {
		out = append(out, t)
	}
	for _, w := range s.Waiting {
		if w.Tries > 0 {
			out = append(out, waits(w))
		}
	}
	out = append(out, s.Limits...)
	out = append(out, s.troublesOfLogs(time.Now())...)
	sort.Strings(out)
	return out
}

// lostFor is how long it is said that something was lost.
const lostFor = 24 * time.Hour

// mostSaid is how many of a kind are said.
const mostSaid = 5

// troublesOfLogs are what keeps logs from being read, with what mends it.
func (s *Snapshot) troublesOfLogs(now time.Time) []string {
	var out []string
	said := func(list []string, more string) {
		if n := len(list); n > mostSaid {
			list = append(list[:mostSaid:mostSaid], fmt.Sprintf("and %d more %s", n-mostSaid, more))
		}
		out = append(out, list...)
	}
	var never, lost []string
	for _, u := range s.Unseen {
		if s.Settings.KitOf(u.Source.Pos) != "" && len(u.Source.Files) > 0 {
			continue // a kit names all files that its programs may write; what there is of them is enough
		}
		text := fmt.Sprintf("source %s was never seen: %s", u.Source.Name, u.Words)
		if u.Mend != "" {
			text += "; " + u.Mend
		}
		never = append(never, text)
	}
	for _, o := range s.Origins {
		if n, at, why := o.Lost(); n > 0 && now.Sub(at) < lostFor {
			lost = append(lost, fmt.Sprintf("%s: %d bytes were lost, the last at %s: %s", o.Name, n,
				at.Format("15:04:05"), why))
		}
	}
	said(never, "sources")
	said(lost, "logs of which something was lost")
	for _, src := range s.Settings.Sources {
		v, ok := s.Ways[src.Name]
		if !ok || src.Off || v.State.Words == "" ||
			slices.ContainsFunc(s.Unseen, func(u Unseen) bool { return u.Source.Name == src.Name }) {
			continue
		}
		text := fmt.Sprintf("source %s: %s", src.Name, v.State.Words)
		if v.State.Mend != "" {
			text += "; to mend it: " + v.State.Mend
		}
		out = append(out, text)
	}
	if s.Kept != "" {
		if _, err := os.ReadDir(s.Kept); err != nil && !os.IsNotExist(err) {
			out = append(out, fmt.Sprintf("what is kept cannot be read: %s: %v; nothing that comes by ports, "+
				"channels and pipes is judged: "+
				"give the user that Dim Lantern runs as its rights back", s.Kept, folder.Reason(err)))
		}
	}
	return out
}

// OriginState is how an origin can be seen; where nothing can be committed, it is held up.
func (s *Snapshot) OriginState(o *intake.Origin, now time.Time) origin.State {
	st := o.State(now)
	if words := s.Trouble["store"]; words != "" && !st.Condition.Blind() {
		st.Condition, st.Since = origin.HeldUp, s.Stuck
		st.Words = "nothing is read since " + s.Stuck.Format("15:04:05") + ": " + words
		st.Mend = "make room on its disk, or give its rights back"
	}
	return st
}

// waits says how much waits to be told to a contact, and why.
func waits(o store.Outgoing) string {
	verb := "wait"
	if o.Waiting == 1 {
		verb = "waits"
	}
	return fmt.Sprintf("%s to %s %s since %s: %s", english.Plural(o.Waiting, "message", "messages"), o.Contact, verb,
		api.Moment(o.Oldest), cmp.Or(o.Words, "not tried yet"))
}
