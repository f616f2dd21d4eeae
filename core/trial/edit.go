package trial

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/core/lang"
	"dimlantern/core/match"
)

// MeansSame tells whether a rule matches and counts by the same as before, so
// that its state can be kept.
func MeansSame(oldS *lang.Settings, a *lang.Rule, newS *lang.Settings, b *lang.Rule) bool {
	return Matching(oldS, a) == Matching(newS, b)
}

// Matching is what of a rule decides what it matches and by what it counts.
func Matching(s *lang.Settings, r *lang.Rule) string {
	var b strings.Builder
	for _, c := range r.Exprs() {
		if c.Word != "raise" {
			b.WriteString(c.Word + " " + lang.Plain(c.Expr).String())
			b.WriteByte(0)
		}
	}
	fmt.Fprintf(&b, "%q %q %v %q %v %v", r.Per, r.On, r.OnRecovery, r.From, r.During, r.Arrival)
	for _, src := range s.Sources {
		if !r.LooksAt(src.Name) { // one that is off rests, and is looked at as before
			continue
		}
		fmt.Fprintf(&b, "\n%s %q %q %s %v %s", src.Name, src.Files, src.Except, src.Host, src.HostFrom, waysIn(src))
		if l := s.Layout(src.LayoutName()); l != nil {
			b.WriteString(l.Meaning())
		}
	}
	return b.String()
}

// waysIn is what of a source decides which entries come and what they say.
func waysIn(s *lang.Source) string {
	only := ""
	if s.Only != nil {
		only = lang.Plain(s.Only).String()
	}
	way := ""
	if s.Kept() {
		way = WaysOf(s)
	}
	return fmt.Sprintf("%s %q %s %s %s %s %v", way, s.LayoutName(), s.Message, s.Account, s.Zone, only, s.Fields)
}

// Times is what of a source decides where its entries begin and which times they have; "" where it
// gives them none.
func Times(s *lang.Settings, src *lang.Source) string {
	l := s.Layout(src.LayoutName())
	if l == nil || !match.NewPlan(s, src, nil, time.UTC).Timed() {
		return ""
	}
	starts := ""
	if src.Entry != nil && src.Entry.Starts != nil {
		starts = src.Entry.Starts.Source
	}
	return fmt.Sprintf("%s %q %q %s", l.Meaning(), src.Zone, starts, src.Encoding)
}

// Compare counts the rules that mean something else in b than in a, those that are new in it,
// and those that went.
func Compare(a, b *lang.Settings) (changed, added, removed int) {
	for _, r := range b.Rules {
		old := a.Rule(r.Name)
		switch {
		case old == nil:
			added++
		case Matching(a, old) != Matching(b, r) || Thresholds(old) != Thresholds(r):
			changed++
		}
	}
	for _, r := range a.Rules {
		if b.Rule(r.Name) == nil {
			removed++
		}
	}
	return changed, added, removed
}

// Thresholds is what of a rule decides when it raises and clears, and its words.
func Thresholds(r *lang.Rule) string {
	var b strings.Builder
	for i := range r.Raises {
		fmt.Fprint(&b, r.Raises[i].Severity, " ", r.Raises[i].Why(), r.Raises[i].Within, ";")
	}
	for i := range r.ClearWhens {
		fmt.Fprint(&b, r.ClearWhens[i].String(), ";")
	}
	fmt.Fprint(&b, r.Quiet, r.Age, r.RecoverAt, r.RecoverIn, r.ByHand, r.Remind, r.Empty, r.Blind, r.BlindIn,
		r.Reopen, r.Grace, r.Say, r.Advise, r.Off)
	for _, u := range r.Unless {
		fmt.Fprint(&b, u.Rule, u.Same)
	}
	return b.String()
}

// WaysOf is what the feeds of a source are made of.
func WaysOf(s *lang.Source) string {
	listens := slices.Clone(s.Listen)
	for i := range listens {
		listens[i].Pos = lang.Pos{}
	}
	b, _ := json.Marshal([]any{s.Channels, s.At, listens, s.Input, s.Command, s.Begin})
	return string(b)
}
