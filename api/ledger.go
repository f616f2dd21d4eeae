package api

import (
	"time"

	"dimlantern/core/entry"
)

// LedgerQuery asks a question to what was logged, as it is typed.
type LedgerQuery struct {
	// Room is who asks: a new question of the same room ends the one before it.
	Room   string        `json:"room"`
	Stop   bool          `json:"stop,omitempty"` // ends the answer of the room, and asks nothing
	Text   string        `json:"text"`           // "" asks what can be asked
	Line   int           `json:"line"`           // where the cursor stands, from 1
	Col    int           `json:"col"`            // characters before it
	At     entry.Instant `json:"at"`             // the lamp; 0 is now
	From   entry.Instant `json:"from"`           // the axis, from its first column
	Until  entry.Instant `json:"until"`
	Column time.Duration `json:"column"`
	// Seen is the version of the answer that is known: one that is newer is waited for, for a while.
	Seen int `json:"seen"`
}

// LedgerView is what is known of the answer.
type LedgerView struct {
	Version      int             `json:"version"`
	Done         bool            `json:"done"` // nothing more will come
	Read         int64           `json:"read"` // bytes so far, of Of
	Of           int64           `json:"of"`
	Problems     []BenchFinding  `json:"problems"`
	Complete     []string        `json:"complete"` // words with which what is typed may go on
	Typed        int             `json:"typed"`    // how long the begin of them is that stands there
	Words        []string        `json:"words"`    // the question in sentences
	Rests        []string        `json:"rests"`    // what the answer rests on
	Took         time.Duration   `json:"took"`
	At, From, To entry.Instant   // the lamp, and the span
	Columns      []LedgerColumn  `json:"columns"`
	Per          []string        `json:"per"`
	Every        string          `json:"every"`  // the period, in words; "" is one number
	Bounds       []entry.Instant `json:"bounds"` // of the periods
	Groups       []LedgerGroup   `json:"groups"`
	More         int             `json:"more"`   // groups that are not among them
	Beside       string          `json:"beside"` // what stands beside, in words; "" is nothing
	Dark         []Span          `json:"dark"`
	Kept         entry.Instant   `json:"kept"`    // nothing is there of before
	Entries      bool            `json:"entries"` // the question is about entries themselves
	Fit          int64           `json:"fit"`
	Lines        []FoundEntry    `json:"lines"` // of those, the newest
	Limits       []LedgerLimit   `json:"limits"`
	Source       string          `json:"source"` // one on which it is; "" is none
	Fields       []string        `json:"fields"` // that its entries have
	Asks         []LedgerAsk     `json:"asks"`   // what can be asked, where nothing is typed
}

// LedgerColumn is a column of the answer.
type LedgerColumn struct {
	Name     string `json:"name"`
	Unit     string `json:"unit"`
	Field    string `json:"field"`
	Additive bool   `json:"additive"` // shares of it make sense
}

// LedgerGroup is a group of the answer.
type LedgerGroup struct {
	Key    []string      `json:"key"` // nil of all others
	Rest   bool          `json:"rest"`
	Of     int           `json:"of"`
	Values []LedgerValue `json:"values"` // by column
	// Series are the numbers by column and period; nil is none.
	Series  [][]*float64 `json:"series"`
	Besides [][]*float64 `json:"besides"`
	Gaps    []Span       `json:"gaps"`
}

// LedgerValue is a number of a group over the span.
type LedgerValue struct {
	Value      string   `json:"value"`
	Beside     string   `json:"beside"`
	Difference string   `json:"difference"`
	Part       string   `json:"part"` // of all groups together
	Peak       string   `json:"peak"` // the greatest of a period
	Number     *float64 `json:"number"`
}

// LedgerLimit is the threshold of a rule that looks at the same number over the same time.
type LedgerLimit struct {
	Rule     string         `json:"rule"`
	Column   int            `json:"column"`
	Limit    float64        `json:"limit"`
	Words    string         `json:"words"`
	Severity entry.Severity `json:"severity"`
}

// LedgerAsk is a question that can be asked.
type LedgerAsk struct {
	Name   string        `json:"name"`
	Text   string        `json:"text"` // one clause a line
	Words  string        `json:"words"`
	Kind   string        `json:"kind"`   // kept, alerts or source
	Where  string        `json:"where"`  // the file in which it stands
	Flow   []int64       `json:"flow"`   // entries by column of the axis, of a source
	Spark  []float64     `json:"spark"`  // of a kept question: its number over its span
	Values []LedgerShare `json:"values"` // of a source: its commonest values
}

// LedgerShare is a value of a field, and how many entries have it.
type LedgerShare struct {
	Field string  `json:"field"`
	Value string  `json:"value"`
	Count int64   `json:"count"`
	Share float64 `json:"share"`
}

// InsideQuery asks what is in a part of an answer: in a stretch of time, of a group.
type InsideQuery struct {
	Room  string        `json:"room"`
	Text  string        `json:"text"`
	At    entry.Instant `json:"at"`
	From  entry.Instant `json:"from"`
	To    entry.Instant `json:"to"`
	Group []string      `json:"group"` // its values, in the order of per; nil is all
	Field string        `json:"field"` // whose values are wanted; "" is the likeliest
	Lines int           `json:"lines"` // so many entries
}

// Inside is what is in a part of an answer.
type Inside struct {
	Count       int64         `json:"count"`
	Fields      []string      `json:"fields"` // that there are, the likeliest first
	Field       string        `json:"field"`
	Values      []LedgerShare `json:"values"`
	Others      int           `json:"others"` // further values
	OthersCount int64         `json:"others_count"`
	Numbers     []string      `json:"numbers"` // of a field with numbers: least, median, p95, greatest, average
	Lines       []FoundEntry  `json:"lines"`   // the newest first
}

// LedgerEdit changes the text of a question.
type LedgerEdit struct {
	Text  string `json:"text"`
	What  string `json:"what"`  // only, not, per, show, from, beside, open, rule or origin
	Field string `json:"field"` // or the rule, or the source, about which one is written
	Value string `json:"value"` // or the origin
	// Key is the key of the rule, by its values.
	Key      []string `json:"key"`
	From, To entry.Instant
}

// LedgerText is the text of a question.
type LedgerText struct {
	Text string `json:"text"`
}

// LedgerOut asks for an answer in a form, such as a picture.
type LedgerOut struct {
	LedgerQuery
	Form   string `json:"form"` // svg, pdf, csv or json
	Title  string `json:"title"`
	Ground string `json:"ground"` // of a picture: dark or light
}

// LedgerFile is an answer in a form.
type LedgerFile struct {
	Body []byte `json:"body"`
}

// KeptAsk is a question, or a report, that is to be kept in the settings.
type KeptAsk struct {
	Kind string `json:"kind,omitempty"` // ask, which "" is as well, or report
	Name string `json:"name"`
	Text string `json:"text"`
}
