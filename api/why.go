package api

import (
	"dimlantern/core/entry"
)

// WhyQuery asks about an entry of an origin, or about a rule and a key.
type WhyQuery struct {
	At     entry.Instant `json:"at"` // 0 is now
	Rule   string        `json:"rule,omitempty"`
	Key    []string      `json:"key,omitempty"`
	Alert  string        `json:"alert,omitempty"` // that stood there
	Origin string        `json:"origin,omitempty"`
	Source string        `json:"source,omitempty"` // of the entry, where its origin is not watched
	Text   string        `json:"text,omitempty"`   // the entry, as it may be shown
	// Typed is a text that is being typed: the rule at its cursor is asked first, or alone
	// where a key is asked about, over the bench's sample.
	Typed *BenchQuery `json:"typed,omitempty"`
}

// Why answers what was asked, in words.
type Why struct {
	Title string    `json:"title"`
	Lines []WhyLine `json:"lines"`
}

// The kinds of lines of an answer.
const (
	WhyHead = "head" // a rule, and what came of it
	WhyText = "text" // what was looked at; Lit is what matched
	WhyYes  = "yes"  // a part that holds
	WhyNo   = "no"   // a part that does not
	WhyMore = "more" // what belongs to the line above
	WhyHit  = "hit"  // an entry that was a hit; Word is its time, Lit what matched
	WhyOver = "over" // one that was a recovery
)

// WhyLine is a line of an answer.
type WhyLine struct {
	Kind string   `json:"kind"`
	Word string   `json:"word,omitempty"` // the clause, or an instant
	Text string   `json:"text"`
	Lit  [][2]int `json:"lit,omitempty"` // stretches of Text in bytes that matched
}
