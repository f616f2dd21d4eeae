package service

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/snapshot"
)

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

// noticeItself writes down, again and again, which rules have fallen silent, and which logs
// fit less than before; and what of that is over. Whether it was written before, the state
// of the built-in rules says.
func (s *Service) noticeItself(ctx context.Context) {
	for t := time.NewTicker(noticeEvery); ; {
		select {
		case <-ctx.Done():
			t.Stop()
			return
		case now := <-t.C:
			s.noticeNow(s.window.Now(), now)
		}
	}
}

func (s *Service) noticeNow(sn *snapshot.Snapshot, now time.Time) {
	if sn.Catching || sn.Settings.Source(lang.Itself) == nil {
		return
	}
	if sn.Settings.Rule("rule-silent") != nil {
		s.noticeSilent(sn, now)
	}
	if sn.Settings.Rule("layout-fits-less") != nil {
		s.noticeFits(sn, now)
	}
}

func (s *Service) noticeSilent(sn *snapshot.Snapshot, now time.Time) {
	clock := sn.Engine.Clock
	for _, c := range sn.Engine.Costs {
		r := sn.Settings.Rule(c.Rule)
		if r == nil || r.Off || slices.Contains(r.On, lang.Itself) || c.Last == entry.None {
			continue
		}
		key, _ := sn.Engine.KeyOf("rule-silent", []string{c.Rule})
		open := key.Alert != ""
		silent := clock.Sub(c.Last)
		if silent < silentLeast && !open {
			continue
		}
		usual, ok := s.usualGap(c.Rule, c.Last)
		is := ok && silent > silentTimes*usual && silent >= silentLeast
		switch {
		case is && !open:
			s.writeItself(now, map[string]any{"event": "rule-silent", "rule": c.Rule, "since": c.Last.String(),
				"usual": entry.RoughSpan(usual),
				"text": fmt.Sprintf("rule %s has had no hit since %s; usually one comes within %s", c.Rule, c.Last,
					entry.RoughSpan(usual))})
		case open && c.Last > key.Raised:
			s.writeItself(now, map[string]any{"event": "rule-heard", "rule": c.Rule,
				"text": fmt.Sprintf("rule %s has had a hit at %s", c.Rule, c.Last)})
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

func (s *Service) noticeFits(sn *snapshot.Snapshot, now time.Time) {
	for _, o := range sn.Origins {
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
		key, _ := sn.Engine.KeyOf("layout-fits-less", []string{o.Name})
		open := key.Alert != ""
		switch {
		case !open && looked > 2*st.Looked && share >= fitsLessLeast && share > fitsLessTimes*before:
			s.writeItself(now, map[string]any{"event": "layout-misfits", "log": o.Name,
				"layout": o.Source.LayoutName(), "misfits": st.Misfits, "looked": st.Looked,
				"before": fmt.Sprintf("%.1f %%", 100*before), "such": st.Misfit,
				"text": fmt.Sprintf("%d of the newest %d entries of %s do not fit the layout %s", st.Misfits,
					st.Looked, o.Name, o.Source.LayoutName())})
		case open && share < fitsLessLeast/2:
			s.writeItself(now, map[string]any{"event": "layout-fits", "log": o.Name,
				"text": fmt.Sprintf("the entries of %s fit the layout %s again", o.Name, o.Source.LayoutName())})
		}
	}
}

// mostItself bounds the log of its own, in bytes: past that the older half is in a copy.
const mostItself = 4 << 20

// writeItself adds an entry to the log of its own.
func (s *Service) writeItself(now time.Time, fields map[string]any) {
	path := filepath.Join(s.o.Data, snapshot.ItselfFile)
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
