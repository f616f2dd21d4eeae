package api

import (
	"time"

	"dimlantern/core/entry"
)

// BenchQuery is a settings file as it is being typed, and the sample that the rule at the
// cursor is to be tried on.
type BenchQuery struct {
	File    string        `json:"file"`
	Body    string        `json:"body"`
	Line    int           `json:"line"` // of the cursor, from 1
	Col     int           `json:"col"`  // characters before it
	At      entry.Instant `json:"at"`   // the lamp; 0 is now
	Span    time.Duration `json:"span"` // the sample begins so long before the lamp
	From    entry.Instant `json:"from"` // the first column of the lifelines
	Column  time.Duration `json:"column"`
	Columns int           `json:"columns"`
	Fed     []string      `json:"fed,omitempty"` // lines that are given to the rule by hand
	// Files are logs to try it on instead of what its sources say: names with * and ?.
	Files  []string `json:"files,omitempty"`
	Filter string   `json:"filter,omitempty"` // only entries that have these words
}

// BenchView is what the text means, and what its rule would have done.
type BenchView struct {
	Rule     string         `json:"rule"`     // at the cursor; "" where there is none, or it has errors
	Findings []BenchFinding `json:"findings"` // of a kind a few; the last of them says how many more there are
	Errors   int            `json:"errors"`   // of all that there are
	Doubts   int            `json:"doubts"`   // findings that are no errors
	Words    []string       `json:"words"`
	Sample   string         `json:"sample"` // what it was tried on, in words
	Tried    *BenchTried    `json:"tried,omitempty"`
	Rows     []Row          `json:"rows"`
	Kinds    []BenchKind    `json:"kinds"`
	Failed   []string       `json:"failed"` // expects of the rule that fail
	Passed   int            `json:"passed"`
	// Complete are words for what is being typed at the cursor, of which Typed characters
	// stand there.
	Complete []string `json:"complete,omitempty"`
	// Fed is what each of the lines that were given by hand brought.
	Fed   [][]string `json:"fed,omitempty"`
	Typed int        `json:"typed,omitempty"`
	// Notes are what of the trial ought to make one look twice.
	Notes []string `json:"notes,omitempty"`
	// Ends is the time of the newest entry of the sample; None where there is none.
	Ends    entry.Instant `json:"ends"`
	Problem string        `json:"problem,omitempty"` // as it is written
	Endless bool          `json:"endless,omitempty"` // it has a problem, and no recovery
	// Curves are the numbers that the rule compares, of the first of the lifelines.
	Curves *Curves `json:"curves,omitempty"`
}

// BenchFinding is an error or a finding at a place of the text.
type BenchFinding struct {
	Line, Col, Len int
	Error          bool
	What, Mend     string
}

// BenchTried counts what the rule would have done.
type BenchTried struct {
	Entries, Hits, Raised, Open int64
	Told, Keys                  int
	Ends                        map[string]int
	Longest, Median             time.Duration
	Took                        time.Duration
}

// BenchKind is a kind of entries, and what the rule makes of it.
type BenchKind struct {
	ID      string
	Source  string
	Origin  string
	Text    string
	Count   int
	Newest  int
	Is      string
	Partly  bool
	Note    string
	Example string
	Lit     [][2]int
	Fields  []entry.Field
}

// BenchBegin names the source that a new rule looks at; "" is the first there is.
type BenchBegin struct {
	Source string `json:"source"`
}

// BenchOthers is what other numbers would have given.
type BenchOthers struct {
	Words string `json:"words"`
}

// BenchFile is a settings file as it lies in the folder.
//
// Asked for a place in a kit, it is a new file with a copy of the block that stands there, which would then stand
// in the kit's place; Says tells so.
type BenchFile struct {
	File string `json:"file"`
	Line int    `json:"line,omitempty"`
	Body string `json:"body"`
	New  bool   `json:"new,omitempty"`
	Says string `json:"says,omitempty"`
}

// BenchSave is a text that is to be written into a file, and what stood there when it was
// opened; New is a file that is not there yet.
type BenchSave struct {
	File string `json:"file"`
	Body string `json:"body"`
	Was  string `json:"was"`
	New  bool   `json:"new,omitempty"`
	Gone bool   `json:"gone,omitempty"` // the file goes, since nothing is left in it
}

// WriteQuery writes a settings file.
type WriteQuery struct {
	Person
	BenchSave
}

// Written is what came of writing a settings file.
type Written struct {
	Said   []string `json:"said"`              // what it changed, where it was taken up
	ByHand bool     `json:"by_hand,omitempty"` // it is not taken up before somebody says so
}

// CurveQuery asks for the numbers over time of a rule and a key, at the end of each
// column of a view.
type CurveQuery struct {
	Rule    string        `json:"rule"`
	Key     []string      `json:"key"`
	From    entry.Instant `json:"from"` // the start of the first column
	Column  time.Duration `json:"column"`
	Columns int           `json:"columns"`
	At      entry.Instant `json:"at"` // nothing behind it; 0 is now
}

// Curves are the numbers that a rule compares, along the columns of a view.
type Curves struct {
	Rule string   `json:"rule"`
	Key  []string `json:"key"`
	List []Curve  `json:"list"`
}

// Curve is one number, and what it is compared with.
type Curve struct {
	Clause   string         `json:"clause"`
	Name     string         `json:"name"` // avg(temp)
	Op       string         `json:"op"`
	Limit    float64        `json:"limit"`
	Severity entry.Severity `json:"severity"` // that it raises; 0 is a clear
	Values   []*float64     `json:"values"`   // by column; nil where there is none
}

// MarkQuery says what an entry is for the rule at the cursor of a text.
type MarkQuery struct {
	File   string   `json:"file"`
	Body   string   `json:"body"`
	Line   int      `json:"line"` // of the cursor, from 1
	Is     string   `json:"is"`   // problem, recovery or ignore; expect: what the entries bring; name: a value
	Source string   `json:"source"`
	Texts  []string `json:"texts"`           // entries, of one kind or of several
	Kinds  []string `json:"kinds,omitempty"` // the IDs of their kinds, in the same order
	// From and To are where in the first entry the value stands that Name is given to, in
	// bytes: with Is name.
	From int    `json:"from,omitempty"`
	To   int    `json:"to,omitempty"`
	Name string `json:"name,omitempty"`
}

// Marked is the text with what was marked.
type Marked struct {
	Body   string `json:"body"`
	Line   int    `json:"line"`   // of the clause that was written, from 1
	Clause string `json:"clause"` // that was written
	Costs  string `json:"costs,omitempty"`
	// Already says why nothing was written; "" where something was.
	Already string `json:"already,omitempty"`
}

// Proposals are kinds of entries that may say that the problem of a rule is over.
type Proposals struct {
	Rule string     `json:"rule"`
	List []Proposal `json:"list"`
}

// Proposal is one of them; Words are its figures.
type Proposal struct {
	Source  string `json:"source"`
	Shape   string `json:"shape"` // the kind's ID
	Text    string `json:"text"`
	Example string `json:"example"`
	Words   string `json:"words"`
}
