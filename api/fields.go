package api

import (
	"dimlantern/core/entry"
	"dimlantern/core/layout"
)

// Mark is a value that somebody pointed at in a line, and how it is called.
type Mark struct {
	Line  string `json:"line"`
	Start int    `json:"start"` // in bytes
	End   int    `json:"end"`
	Name  string `json:"name"`
	Not   bool   `json:"not,omitempty"` // it is not one
}

// FieldsQuery asks how a layout divides the entries of a source.
type FieldsQuery struct {
	Origin string `json:"origin"`
	Text   string `json:"text"` // the block of the layout; "" as it is
	Marks  []Mark `json:"marks,omitempty"`
	Which  string `json:"which"` // usual, odd, newest or misfits
	Filter string `json:"filter,omitempty"`
	Wide   bool   `json:"wide,omitempty"` // all that is there instead of a sample
	Lines  int    `json:"lines"`
	Field  string `json:"field,omitempty"` // whose values are wanted
	Detect int    `json:"detect,omitempty"`
	Write  bool   `json:"write,omitempty"` // into the settings
}

// FieldSpan is where a field's value stands in a line.
type FieldSpan struct {
	Start int    `json:"start"`
	End   int    `json:"end"`
	Name  string `json:"name"`
}

// FieldLine is one entry with its fields.
type FieldLine struct {
	Raw    string        `json:"raw"`
	At     entry.Instant `json:"at"`
	Fits   bool          `json:"fits"`
	Misfit string        `json:"misfit,omitempty"`
	Spans  []FieldSpan   `json:"spans,omitempty"`
	Fields []entry.Field `json:"fields,omitempty"`
	Kin    int           `json:"kin"` // lines of its shape
}

// FieldCount is one field of all entries that were looked at.
type FieldCount struct {
	Name     string `json:"name"`
	Type     string `json:"type"`
	Entries  int    `json:"entries"`
	Distinct int    `json:"distinct"`
}

// MisfitCount is why some entries do not fit.
type MisfitCount struct {
	Reason  string `json:"reason"`
	Count   int    `json:"count"`
	Example string `json:"example"`
}

// FieldsView is how a layout divides the entries of a source.
type FieldsView struct {
	Source  string             `json:"source"`
	Layout  string             `json:"layout"`
	File    string             `json:"file"` // where it will be written
	Text    string             `json:"text"` // as it will be written
	Changed bool               `json:"changed"`
	Words   string             `json:"words,omitempty"` // what is wrong with the text or the marks
	Lines   []FieldLine        `json:"lines"`
	Looked  int                `json:"looked"`
	Fits    int                `json:"fits"`
	Unfit   int                `json:"unfit"` // that do not fit, or of which a value does not fit its type
	Timed   int                `json:"timed"`
	Shapes  int                `json:"shapes"`
	Fields  []FieldCount       `json:"fields"`
	Values  *FieldValues       `json:"values,omitempty"`
	Misfits []MisfitCount      `json:"misfits,omitempty"`
	Parts   []layout.Explained `json:"parts,omitempty"`  // of the pattern that was built, in words
	Others  []string           `json:"others,omitempty"` // sources besides this one that have the layout
	Found   []string           `json:"found,omitempty"`  // proposals in words, the best first
	Done    bool               `json:"done,omitempty"`
}

// FieldValues are the values of one field.
type FieldValues struct {
	FieldCount
	More    bool            `json:"more"`
	Top     []layout.Value  `json:"top"`
	Rare    []layout.Value  `json:"rare,omitempty"` // the rarest, with lines that have them
	Numbers *layout.Numbers `json:"numbers,omitempty"`
}
