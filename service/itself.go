package service

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"time"

	"dimlantern/folder"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// What Dim Lantern notices about its own rules and layouts it writes into a log of its
// own, and built-in rules look at that as rules look at every other log: so it is raised,
// told, cleared and looked back at as everything else is.

// itselfText are the built-in source and rules; %s is where the log will be.
const itselfText = `source dim-lantern {
  files  %s
  begin  oldest
  layout json
}

rule rule-silent {
  on       dim-lantern
  problem  event == "rule-silent"
  recovery event == "rule-heard"
  per      rule
  raise    notice
  say      "{rule} has had no hit since {since}; usually one comes within {usual}"
  advise   "Has what it looks for been reworded? y on an entry of its log tells what it is for the rule."
}

rule contact-unreachable {
  on       dim-lantern
  problem  event == "contact-unreachable"
  recovery event == "contact-reached"
  per      contact
  raise    error
  say      "{contact} cannot be told by {way}: {reason}"
  advise   "dimlantern tell --test CONTACT says what is wrong. What waits is told as soon as it goes."
}

rule layout-fits-less {
  on       dim-lantern
  problem  event == "layout-misfits"
  recovery event == "layout-fits"
  per      log
  raise    warning
  say      "{misfits} of the newest {looked} entries of {log} do not fit the layout {layout}; before, {before} did not"
  advise   "Look at its misfits in the room sources; a layout may have several patterns."
}
`

// unreachableRule is the built-in rule about contacts that cannot be told.
const unreachableRule = "contact-unreachable"

// The log of its own, in the data folder. The source has a pattern for it, so that it has
// no origin before there is something in it.
const (
	itselfFolder = "noticed"
	itselfFile   = itselfFolder + "/dim-lantern.log"
)

// withItself adds the built-in source and rules to settings. A rule of the settings with
// the name of a built-in one stands in its place.
func (s *Service) withItself(to *lang.Settings) {
	if to.AllBuiltInOff || to.Source(lang.Itself) != nil {
		return
	}
	path, err := filepath.Abs(filepath.Join(s.o.Data, itselfFolder))
	if err != nil {
		return
	}
	own, ds := folder.Check([]folder.Text{{Name: "built-in", Body: fmt.Sprintf(itselfText, lang.Quote(folder.EscapeGlob(path)+"/*.log"))}})
	if lang.Errors(ds) {
		s.o.Log.Error("the built-in rules are not right", "what", ds[0].What)
		return
	}
	added := false
	for _, r := range own.Rules {
		if to.Rule(r.Name) == nil && !slices.Contains(to.BuiltInOff, r.Name) {
			r.Zone = nil
			to.Rules = append(to.Rules, r)
			added = true
		}
	}
	if !added && !slices.ContainsFunc(to.Rules, func(r *lang.Rule) bool { return slices.Contains(r.On, lang.Itself) }) {
		return
	}
	to.Sources = append(to.Sources, own.Sources...)
	sort.SliceStable(to.Rules, func(i, j int) bool { return to.Rules[i].Name < to.Rules[j].Name })
	sort.SliceStable(to.Sources, func(i, j int) bool { return to.Sources[i].Name < to.Sources[j].Name })
}

// builtIn tells whether a rule is one of those that come with Dim Lantern.
func builtIn(r *lang.Rule) bool { return r.Pos.File == "built-in" }

// How often Dim Lantern looks at itself, and what it takes for a rule to count as silent:
// so many times its usual gap, over so many visits, and so long at least.
const (
	noticeEvery  = time.Minute
	silentTimes  = 10
	silentVisits = 6
	silentLeast  = time.Hour
	silentLooks  = 30 * 24 * time.Hour
	slot         = 10 * time.Minute // hits in one, or in adjacent ones, are one visit
)

// noticeItself writes down which rules have fallen silent, and which logs fit less than
// before; and what of that is over. Whether it was written before, the state of the
// built-in rules says.
func (s *Service) noticeItself(now time.Time) {
	if now.Sub(s.noticed) < noticeEvery || s.settings.Source(lang.Itself) == nil {
		return
	}
	s.noticed = now
	if s.settings.Rule("rule-silent") != nil {
		s.noticeSilent(now)
	}
	if s.settings.Rule("layout-fits-less") != nil {
		s.noticeFits(now)
	}
}

func (s *Service) noticeSilent(now time.Time) {
	clock := s.engine.Clock()
	for _, c := range s.engine.Costs() {
		r := s.settings.Rule(c.Rule)
		if r == nil || r.Off || slices.Contains(r.On, lang.Itself) || c.Last == entry.None {
			continue
		}
		key, _ := s.engine.KeyOf("rule-silent", []string{c.Rule})
		open := key.Alert != ""
		silent := clock.Sub(c.Last)
		if silent < silentLeast && !open {
			continue
		}
		usual, ok := s.usualGap(c.Rule, c.Last)
		is := ok && silent > silentTimes*usual && silent >= silentLeast
		switch {
		case is && !open:
			s.writeItself(now, map[string]any{"event": "rule-silent", "rule": c.Rule, "since": c.Last.String(), "usual": entry.RoughSpan(usual),
				"text": fmt.Sprintf("rule %s has had no hit since %s; usually one comes within %s", c.Rule, c.Last, entry.RoughSpan(usual))})
		case open && c.Last > key.Raised:
			s.writeItself(now, map[string]any{"event": "rule-heard", "rule": c.Rule, "text": fmt.Sprintf("rule %s has had a hit at %s", c.Rule, c.Last)})
		}
	}
}

// usualGap is the median time between visits of hits to a rule, of those up to an instant
// in the last weeks; false where there were too few.
func (s *Service) usualGap(rule string, to entry.Instant) (time.Duration, bool) {
	slots, err := s.store.SlotsOf(rule, to.Add(-silentLooks), slot)
	if err != nil {
		return 0, false
	}
	return usualGap(slots, slot)
}

// usualGap is the median gap between runs of adjacent slots of that width.
func usualGap(slots []int64, width time.Duration) (time.Duration, bool) {
	var gaps []int64
	for i := 1; i < len(slots); i++ {
		if d := slots[i] - slots[i-1]; d > 1 {
			gaps = append(gaps, d)
		}
	}
	switch {
	case len(gaps)+1 >= silentVisits:
		slices.Sort(gaps)
		return time.Duration(gaps[len(gaps)/2]) * width, true
	case len(slots) >= 6*silentVisits: // it hardly ever stopped
		return width, true
	}
	return 0, false
}

// A log fits less than before where so many more of its newest entries do not fit, and
// well again where hardly more do than before.
const (
	fitsLessTimes = 4
	fitsLessLeast = 0.2
)

func (s *Service) noticeFits(now time.Time) {
	for _, o := range s.follower.Origins() {
		if o.Source.Name == lang.Itself {
			continue
		}
		st := o.State(now)
		looked, misfits := o.Fitted()
		if st.Looked < 16 {
			continue
		}
		share, before := float64(st.Misfits)/float64(st.Looked), 0.0
		if old := looked - st.Looked; old > 0 {
			before = float64(misfits-st.Misfits) / float64(old)
		}
		key, _ := s.engine.KeyOf("layout-fits-less", []string{o.Name})
		open := key.Alert != ""
		switch {
		case !open && looked > 2*st.Looked && share >= fitsLessLeast && share > fitsLessTimes*before:
			s.writeItself(now, map[string]any{"event": "layout-misfits", "log": o.Name, "layout": o.Source.LayoutName(), "misfits": st.Misfits, "looked": st.Looked,
				"before": fmt.Sprintf("%.1f %%", 100*before), "such": st.Misfit,
				"text": fmt.Sprintf("%d of the newest %d entries of %s do not fit the layout %s", st.Misfits, st.Looked, o.Name, o.Source.LayoutName())})
		case open && share < fitsLessLeast/2:
			s.writeItself(now, map[string]any{"event": "layout-fits", "log": o.Name, "text": fmt.Sprintf("the entries of %s fit the layout %s again", o.Name, o.Source.LayoutName())})
		}
	}
}

// mostItself bounds the log of its own, in bytes: past that the older half is in a copy.
const mostItself = 4 << 20

// writeItself adds an entry to the log of its own.
func (s *Service) writeItself(now time.Time, fields map[string]any) {
	path := filepath.Join(s.o.Data, itselfFile)
	os.MkdirAll(filepath.Dir(path), 0o700) // what fails here fails below
	if info, err := os.Stat(path); err == nil && info.Size() > mostItself {
		os.Rename(path, path+".1")
	}
	fields["at"] = entry.Of(now).String()
	b, err := json.Marshal(fields)
	if err == nil {
		var f *os.File
		if f, err = os.OpenFile(path, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o600); err == nil {
			_, err = f.Write(append(b, '\n'))
			if e := f.Close(); err == nil {
				err = e
			}
		}
	}
	if err != nil {
		s.o.Log.Warn("what was noticed cannot be written", "reason", err)
	}
}
