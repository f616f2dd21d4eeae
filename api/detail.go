package api

import (
	"dimlantern/core/entry"
)

// DetailQuery names a row of a view at an instant.
type DetailQuery struct {
	At     entry.Instant `json:"at"` // 0 is now
	Rule   string        `json:"rule"`
	Key    []string      `json:"key"`
	Alert  string        `json:"alert"`
	Origin string        `json:"origin"`
	Lines  int           `json:"lines"` // how many lines of evidence at most
	// Brief leaves out who was told, and of the evidence the lines around the hits.
	Brief bool `json:"brief,omitempty"`
}

// Detail is what is known of one row.
type Detail struct {
	Advise string     `json:"advise"`
	Say    string     `json:"say"`
	Clears []string   `json:"clears"` // what will clear it, or how it ended
	Story  []Event    `json:"story"`  // newest first
	Origin string     `json:"origin"`
	Source string     `json:"source,omitempty"`
	Newest string     `json:"newest,omitempty"` // the newest entry, whole
	Host   string     `json:"host"`
	Lines  []Evidence `json:"lines"`            // newest first
	Unread string     `json:"unread"`           // why lines around the hits are missing
	RuleAt string     `json:"rule_at"`          // where the rule stands: file and line
	Fields []string   `json:"fields,omitempty"` // of the key
	About  []string   `json:"about,omitempty"`  // the words of its rule
}

// Event is one line of a story.
type Event struct {
	At       entry.Instant  `json:"at"`
	Text     string         `json:"text"`
	Why      string         `json:"why"`
	Change   string         `json:"change"`
	Severity entry.Severity `json:"severity"`
}

// Evidence is a line of the log around the hits.
type Evidence struct {
	At       entry.Instant `json:"at"`
	Text     string        `json:"text"`
	Hit      bool          `json:"hit"`
	Recovery bool          `json:"recovery"`
	Lit      [][2]int      `json:"lit,omitempty"` // stretches of Text in bytes that matched
}
