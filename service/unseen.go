package service

import (
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"dimlantern/folder"

	"dimlantern/core/origin"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/intake"
	"dimlantern/intake/journal"
	"dimlantern/intake/pipe"
	"dimlantern/store"
)

// unseen is what a source says of a log that was never seen: no file fits its glob, its port
// cannot be opened, its channel not be reached. For rules it is a log that is blind.
type unseen struct {
	source      *lang.Source
	name, way   string // as an origin's
	words, mend string
}

// allUnseen are the sources, and channels of sources, of which nothing was ever seen. The
// caller holds the lock.
func (s *Service) allUnseen(now time.Time) []unseen {
	var out []unseen
	empty := s.follower.Empty()
	for _, src := range s.settings.Sources {
		if src.Off || src.Name == lang.Itself {
			continue
		}
		var own []*intake.Origin
		for _, o := range s.follower.Origins() {
			if o.Source.Name == src.Name {
				own = append(own, o)
			}
		}
		add := func(way, words, mend string) {
			if words == "" || slices.ContainsFunc(own, func(o *intake.Origin) bool { return o.Way == way || way == "" }) {
				return
			}
			at := way
			if way == "" {
				at = strings.Join(src.Files, ", ")
			}
			host := s.host
			if src.Host != "" {
				host = src.Host
			}
			out = append(out, unseen{src, host + ":" + at, way, words, mend})
		}
		if !src.Kept() {
			if words := empty[src.Name]; words != "" {
				add("", words, intake.Missing(src.Files[0]))
			}
			continue
		}
		v, ok := s.ways.glance(src.Name, now)
		if !ok {
			continue
		}
		switch {
		case src.Journal():
			add(journal.Way, v.State.Words, v.State.Mend)
		case src.Input:
			add(pipe.Way, v.State.Words, v.State.Mend)
		}
		for _, l := range src.Listen {
			if len(own) == 0 {
				add(l.Proto+" "+l.Address, v.State.Words, v.State.Mend)
			}
		}
		for _, name := range src.Channels {
			if src.Journal() {
				continue
			}
			words, mend := v.State.Words, v.State.Mend
			if t, ok := v.State.Ways[name]; ok {
				words, mend = t.Words, t.Mend
			}
			add(name, words, mend)
		}
	}
	return out
}

// seeUnseen lets the engine know what was never seen, and what was by now.
func (s *Service) seeUnseen(now time.Time) {
	at := entry.Of(now)
	list := s.allUnseen(now)
	was := s.unseenNames
	s.unseen, s.unseenNames = list, nil
	for _, u := range list {
		s.unseenNames = append(s.unseenNames, u.name)
		if slices.Contains(was, u.name) && s.engine.IsBlind(u.name) {
			continue
		}
		s.begun = -1
		s.apply(engine.Blind{Origin: u.name, At: at})
		s.tellBlind(u.name, string(origin.NoFile), true)
		s.batch.Blind = append(s.batch.Blind, store.Blind{Origin: u.name, At: at, Words: string(origin.NoFile)})
	}
	for _, name := range was {
		if slices.Contains(s.unseenNames, name) {
			continue
		}
		if slices.ContainsFunc(s.follower.Origins(), func(o *intake.Origin) bool { return o.Name == name }) {
			continue // it is seen under the same name
		}
		s.begun = -1
		s.apply(engine.Forget{Origin: name, At: at})
		s.tellBlind(name, string(origin.NoFile), false)
		s.batch.Blind = append(s.batch.Blind, store.Blind{Origin: name, At: at, Seen: true})
	}
	if !slices.Equal(was, s.unseenNames) {
		b, _ := json.Marshal(s.unseenNames)
		s.setMeta("unseen", b)
		s.seq++
	}
}

// origins are all logs as rules that await know them, those among them that were never seen.
func (s *Service) awaitedOrigins() []engine.Origin {
	var out []engine.Origin
	for _, o := range s.follower.Origins() {
		out = append(out, trial.AwaitedOrigin(s.settings, o.Source, o.Name, o.Host, o.Way))
	}
	for _, u := range s.unseen {
		host, _, _ := strings.Cut(u.name, ":")
		out = append(out, trial.AwaitedOrigin(s.settings, u.source, u.name, host, u.way))
	}
	return out
}

// lostFor is how long it is said that something was lost.
const lostFor = 24 * time.Hour

// mostSaid is how many of a kind are said.
const mostSaid = 5

// troublesOfLogs are what keeps logs from being read, in words, with what mends it. The
// caller holds the lock.
func (s *Service) troublesOfLogs(now time.Time) []string {
	var out []string
	said := func(list []string, more string) {
		if n := len(list); n > mostSaid {
			list = append(list[:mostSaid:mostSaid], fmt.Sprintf("and %d more %s", n-mostSaid, more))
		}
		out = append(out, list...)
	}
	var never, lost []string
	for _, u := range s.unseen {
		text := fmt.Sprintf("source %s was never seen: %s", u.source.Name, u.words)
		if u.mend != "" {
			text += "; " + u.mend
		}
		never = append(never, text)
	}
	for _, o := range s.follower.Origins() {
		if n, at, why := o.Lost(); n > 0 && now.Sub(at) < lostFor {
			lost = append(lost, fmt.Sprintf("%s: %d bytes were lost, the last at %s: %s", o.Name, n, at.Format("15:04:05"), why))
		}
	}
	said(never, "sources")
	said(lost, "logs of which something was lost")
	for _, src := range s.settings.Sources {
		if v, ok := s.ways.view(src.Name); ok && !src.Off && v.State.Words != "" && !slices.ContainsFunc(s.unseen, func(u unseen) bool { return u.source.Name == src.Name }) {
			text := fmt.Sprintf("source %s: %s", src.Name, v.State.Words)
			if v.State.Mend != "" {
				text += "; to mend it: " + v.State.Mend
			}
			out = append(out, text)
		}
	}
	if dir := s.ways.kept.Dir(); dir != "" {
		if _, err := os.ReadDir(dir); err != nil && !os.IsNotExist(err) {
			out = append(out, fmt.Sprintf("what is kept cannot be read: %s: %v; nothing that comes by ports, channels and pipes is judged: give the user that Dim Lantern runs as its rights back", dir, folder.Reason(err)))
		}
	}
	return out
}
