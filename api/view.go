package api

import (
	"time"

	"dimlantern/core/entry"
)

// Notice is something that happened to the service itself.
type Notice struct {
	At   entry.Instant `json:"at"`
	Text string        `json:"text"`
}

// ViewQuery asks for a view.
type ViewQuery struct {
	At      entry.Instant `json:"at"`      // 0 is now
	Until   entry.Instant `json:"until"`   // in the last column; 0 is At
	Column  time.Duration `json:"column"`  // the width of a column of the time axis
	Columns int           `json:"columns"` // how many there are
}

// View is the state of the world at one instant, and what led to it.
type View struct {
	May      Right         `json:"may"`      // what who asks may do at most
	Settings string        `json:"settings"` // the folder
	Where    string        `json:"where"`    // where the service runs
	Now      entry.Instant `json:"now"`
	At       entry.Instant `json:"at"`
	Live     bool          `json:"live"`
	From     entry.Instant `json:"from"` // the start of the first column
	Until    entry.Instant `json:"until"`
	Column   time.Duration `json:"column"`
	Tide     []int64       `json:"tide"` // entries by column
	Minute   int64         `json:"minute"`
	Peak     int64         `json:"peak"` // the most entries a minute in a column
	Open     []Row         `json:"open"`
	Stirring []Row         `json:"stirring"`
	Blind    []Row         `json:"blind"`
	Over     []Row         `json:"over"`
	Sources  int           `json:"sources"`
	Rules    int           `json:"rules"`
	Origins  int           `json:"origins"`
	Waiting  []string      `json:"waiting"` // sources without a file
	Trouble  []string      `json:"trouble"`
	Notices  []Notice      `json:"notices"`
	Reading  bool          `json:"reading"`           // entries that are there have not been read yet
	Behind   int64         `json:"behind"`            // bytes
	Shared   bool          `json:"shared,omitempty"`  // it is a centre, or has joined one
	ByHand   bool          `json:"by_hand,omitempty"` // changed settings are taken up when told to only
	Busy     string        `json:"busy,omitempty"`    // what the bench waits for, in words
	First    entry.Instant `json:"first"`             // the oldest instant that can be shown
}

// Row is a key of a rule, or an origin that cannot be seen.
type Row struct {
	Rule     string         `json:"rule"`
	Key      []string       `json:"key"`
	Alert    string         `json:"alert,omitempty"`
	Severity entry.Severity `json:"severity"`
	Raised   entry.Instant  `json:"raised"`
	Cleared  entry.Instant  `json:"cleared"`
	Count    int            `json:"count"`
	Note     string         `json:"note"`
	Have     int            `json:"have"` // of a stirring key: hits, of Need
	Need     int            `json:"need"`
	Life     Life           `json:"life"`
	Origin   string         `json:"origin,omitempty"`
	Words    string         `json:"words,omitempty"`
	Mend     string         `json:"mend,omitempty"`
	Since    entry.Instant  `json:"since"`
	Untold   string         `json:"untold,omitempty"`  // why it is not told now
	Taken    string         `json:"taken,omitempty"`   // who has taken it
	Numbers  bool           `json:"numbers,omitempty"` // its rule compares numbers over time
}

// Life is what happened to a key along the columns of a view.
type Life struct {
	Hits   []int  `json:"hits"` // by column
	Alerts []Span `json:"alerts"`
	Dark   []Span `json:"dark"` // could not be seen
	// Untold are stretches in which its alert is not told: it stands in the shadow of a
	// bigger one, or is hushed.
	Untold []Span `json:"untold,omitempty"`
}

// Span is a stretch of time. To is None while it lasts.
type Span struct {
	From  entry.Instant `json:"from"`
	To    entry.Instant `json:"to"`
	Why   string        `json:"why,omitempty"`
	Steps []Step        `json:"steps,omitempty"`
}

// Step is when an alert got a severity.
type Step struct {
	At       entry.Instant  `json:"at"`
	Severity entry.Severity `json:"severity"`
}
