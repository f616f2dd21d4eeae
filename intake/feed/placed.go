package feed

import (
	"strings"

	"dimlantern/core/lang"
	"dimlantern/core/origin"
)

// placed is one of several feeds of a source, each of another place: its ways and streams are
// called with it, so that the channel of one host is never taken for that of another.
type placed struct {
	Feed
	place string
	ways  []string // that the feed has
	apart bool     // whether its ways are called so too
}

// At returns a feed of a place. The positions of its streams are remembered with the place; where
// apart is true, what comes by one of its ways is said to have come from there, as lang.WayAt says.
// Told and State go on to the feed.
func At(f Feed, place string, ways []string, apart bool) Feed {
	p := &placed{f, place, ways, apart}
	if t, ok := f.(Teller); ok {
		return &struct {
			*placed
			Teller
		}{p, t}
	}
	return p
}

// PositionsAt are the positions of the streams of a place, out of those that are remembered of a
// source. Where there are none, those without a place are meant if the place is the first of its
// source, which was its only one before.
func PositionsAt(all map[string]string, place string, first bool) map[string]string {
	out := map[string]string{}
	for stream, at := range all {
		if s, ok := strings.CutSuffix(stream, lang.WayAt("", place)); ok {
			out[s] = at
		}
	}
	if len(out) > 0 || !first {
		return out
	}
	for stream, at := range all {
		if !strings.Contains(stream, lang.WayAt("", "")) {
			out[stream] = at
		}
	}
	return out
}

func (p *placed) Take(most int) []Message {
	out := p.Feed.Take(most)
	for i := range out {
		if out[i].Stream != "" {
			out[i].Stream = lang.WayAt(out[i].Stream, p.place)
		}
		if p.apart && out[i].Way != "" {
			out[i].Way = lang.WayAt(out[i].Way, p.place)
		}
	}
	return out
}

// State says of a place that cannot be seen that none of its ways can: of another place that
// says nothing.
func (p *placed) State() origin.Way {
	s := p.Feed.State()
	if !p.apart {
		return s
	}
	ways := map[string]origin.Trouble{}
	for _, w := range p.ways {
		if t, ok := s.Ways[w]; ok {
			ways[lang.WayAt(w, p.place)] = t
		} else if s.Words != "" {
			ways[lang.WayAt(w, p.place)] = origin.Trouble{Words: s.Words, Mend: s.Mend}
		}
	}
	s.Ways = ways
	for i := range s.Senders {
		s.Senders[i].Name = lang.WayAt(s.Senders[i].Name, p.place)
	}
	return s
}
