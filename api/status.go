package api

import (
	"dimlantern/core/entry"
)

// NewsQuery asks to be told when something is new behind what is known.
type NewsQuery struct {
	Seq  int64 `json:"seq"`
	Flow int64 `json:"flow"`
}

// News says how far things are. Seq grows with what a screen shows at once (a change of an
// alert, of an origin's state, of the settings), Flow as entries come.
type News struct {
	Seq  int64 `json:"seq"`
	Flow int64 `json:"flow"`
}

// Status says how the service is.
type Status struct {
	Host     string         `json:"host"`
	Started  string         `json:"started"`
	Settings string         `json:"settings"`
	Rules    int            `json:"rules"`
	Sources  int            `json:"sources"`
	Origins  int            `json:"origins"`
	Blind    []string       `json:"blind"`
	Open     map[string]int `json:"open"` // by severity
	Taken    int            `json:"taken"`
	Hushes   int            `json:"hushes"` // that hold now
	Waiting  int            `json:"waiting"`
	Trouble  []string       `json:"trouble"`
	Reading  bool           `json:"reading"`
}

// Well tells whether nothing keeps Dim Lantern from doing all of its work.
func (s *Status) Well() bool { return len(s.Trouble) == 0 && len(s.Blind) == 0 }

// ShiftQuery asks what happened in a stretch of time. To is 0 where it lasts until now.
type ShiftQuery struct {
	From entry.Instant `json:"from"`
	To   entry.Instant `json:"to"`
}

// Shift is what happened in a stretch of time.
type Shift struct {
	From, To entry.Instant
	Host     string
	Alerts   []ShiftAlert // open ones first, the worst first
	Hushes   []HushView   // that hold at its end
	Actions  []Action
	Told     []ShiftTold
	Trouble  []string
}

// Action is what a person did, or what happened to the settings.
type Action struct {
	At    entry.Instant `json:"at"`
	By    string        `json:"by"`
	From  string        `json:"from,omitempty"` // the machine and terminal
	What  string        `json:"what"`           // take, hand over, hush, unhush, note, clear, settings
	Alert string        `json:"alert,omitempty"`
	Words string        `json:"words,omitempty"`
	Until entry.Instant `json:"until,omitempty"` // of a hush
	Did   string        `json:"did,omitempty"`   // what came of it, in words
	Files []FileChange  `json:"files,omitempty"` // that were written
}

// FileChange is what a settings file was, and what it is now.
type FileChange struct {
	File string `json:"file"`
	Was  string `json:"was"`
	Now  string `json:"now"`
}

// ShiftAlert is an alert that was open at some time in it.
type ShiftAlert struct {
	Alert, Rule string
	Key         []string
	Severity    entry.Severity
	Raised      entry.Instant
	Cleared     entry.Instant // None while it is open
	Why         string        // of its end
	Count       int
	Say         string
	Taken       string   // who has it
	Notes       []string // who wrote what
	Before      bool     // it was raised before
}

// ShiftTold sums up what a contact was told.
type ShiftTold struct {
	Contact               string
	Told, Waiting, Failed int
	Words                 string // why it could not be told
}
