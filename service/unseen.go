package service

import (
	"encoding/json"
	"slices"
	"strings"
	"time"

	"dimlantern/core/origin"
	"dimlantern/snapshot"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/intake"
	"dimlantern/intake/journal"
	"dimlantern/intake/pipe"
	"dimlantern/intake/program"
	"dimlantern/store"
)

// allUnseen are the sources, and channels of sources, of which nothing was ever seen.
func (s *Service) allUnseen(now time.Time) []snapshot.Unseen {
	var out []snapshot.Unseen
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
			if words == "" || slices.ContainsFunc(own,
				func(o *intake.Origin) bool { return o.Way == way || way == "" }) {
				return
			}
			at := way
			if way == "" {
				at = strings.Join(src.Files, ", ")
			}
			host := s.house.Host
			if src.Host != "" {
				host = src.Host
			}
			out = append(out, snapshot.Unseen{Source: src, Name: host + ":" + at, Way: way, Words: words, Mend: mend})
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
		case len(src.Command) > 0:
			add(program.Way(src.Command), v.State.Words, v.State.Mend)
		case src.Input:
			add(pipe.Way, v.State.Words, v.State.Mend)
		}
		for _, l := range src.Listen {
			if len(own) == 0 {
				add(l.Proto+" "+l.Address, v.State.Words, v.State.Mend)
			}
		}
		for _, name := range src.ChannelWays() {
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
		s.unseenNames = append(s.unseenNames, u.Name)
		if slices.Contains(was, u.Name) && s.engine.IsBlind(u.Name) {
			continue
		}
		s.begun = -1
		s.apply(engine.Blind{Origin: u.Name, At: at})
		s.decider.Blind(u.Name, string(origin.NoFile), true)
		s.batch.Blind = append(s.batch.Blind, store.Blind{Origin: u.Name, At: at, Words: string(origin.NoFile)})
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
		s.decider.Blind(name, string(origin.NoFile), false)
		s.batch.Blind = append(s.batch.Blind, store.Blind{Origin: name, At: at, Seen: true})
	}
	if !slices.Equal(was, s.unseenNames) {
		b, _ := json.Marshal(s.unseenNames)
		s.batch.SetMeta("unseen", b)
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
		host, _, _ := strings.Cut(u.Name, ":")
		out = append(out, trial.AwaitedOrigin(s.settings, u.Source, u.Name, host, u.Way))
	}
	return out
}
