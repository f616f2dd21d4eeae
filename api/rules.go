package api

import (
	"time"

	"dimlantern/core/entry"
)

// RulesView says what the rules do, and what they cost.
type RulesView struct {
	Since entry.Instant `json:"since"` // when measuring began
	Rules []RuleCost    `json:"rules"` // by name
	// Sources are what reading has cost: dividing lines and looking for words, which the
	// rules of a source share.
	Sources []SourceCost `json:"sources"`
}

// RuleCost is what one rule does and costs.
type RuleCost struct {
	For     []string `json:"for,omitempty"` // groups of hosts that it is sent to
	Rule    string   `json:"rule"`
	Off     bool     `json:"off,omitempty"`
	File    string   `json:"file"` // where it stands
	Line    int      `json:"line"`
	Sources []string `json:"sources"` // where it looks
	Keys    int      `json:"keys"`
	Open    int      `json:"open"`
	Hits    int64    `json:"hits"` // since the rule is known
	Day     int64    `json:"day"`  // in the last 24 hours
	// Week is how many alerts it raised in the last seven days, Taken how many of them somebody took:
	// a rule of which nobody ever takes one is noise.
	Week  int `json:"alerts_week"`
	Taken int `json:"taken_week"`
	// Findings are how many the linter has about it.
	Findings int           `json:"findings,omitempty"`
	Last     entry.Instant `json:"last"` // the newest hit or awaited entry; None: never
	Judged   int64         `json:"judged"`
	Minute   int64         `json:"judged_minute"` // in the last whole minute
	Took     time.Duration `json:"took_ns"`       // since measuring began, from a sample
	P95      time.Duration `json:"p95_ns"`        // of a minute
	Most     time.Duration `json:"most_ns"`       // in a minute
	Slow     *SlowEntry    `json:"slow,omitempty"`
}

// SlowEntry is the entry of the last day that took longest, of those that were timed: one in some, and all
// long ones.
type SlowEntry struct {
	Took   time.Duration `json:"took_ns"`
	At     entry.Instant `json:"at"`
	Origin string        `json:"origin"`
	Place  int64         `json:"place"` // in its file, in bytes
	Text   string        `json:"text"`  // its begin
}

// SourceCost is what reading a source has cost in all.
type SourceCost struct {
	Source string        `json:"source"`
	Took   time.Duration `json:"took_ns"`
	P95    time.Duration `json:"p95_ns"`  // of a minute
	Most   time.Duration `json:"most_ns"` // in a minute
	// Of that, dividing entries by the source's layout, from a sample.
	Layout       string        `json:"layout"`
	Entries      int64         `json:"divided"`
	Minute       int64         `json:"divided_minute"` // in the last whole minute
	Dividing     time.Duration `json:"dividing_ns"`
	DividingP95  time.Duration `json:"dividing_p95_ns"`
	DividingMost time.Duration `json:"dividing_most_ns"`
	Slow         *SlowEntry    `json:"slow,omitempty"`
}
