package service

import (
	"context"
	"time"

	"dimlantern/core/entry"
)

// Lantern is what screens and commands ask a service, and tell it to do. The
// service itself and a Remote over its socket are the same Lantern. All methods
// may be called concurrently.
type Lantern interface {
	// View answers with the state of the world at an instant.
	View(ctx context.Context, q ViewQuery) (*View, error)
	// Detail answers with what is known of one row of a view.
	Detail(ctx context.Context, q DetailQuery) (*Detail, error)
	// Sources answers with what is watched, at an instant.
	Sources(ctx context.Context, q ViewQuery) (*SourcesView, error)
	// News answers once something is new, or nothing has been for a while: so nobody has to
	// ask again and again.
	News(ctx context.Context, q NewsQuery) (*News, error)
	// Rules answers with what the rules do, and what they cost.
	Rules(ctx context.Context) (*RulesView, error)
	// Entries answers with the newest entries of an origin, up to an instant.
	Entries(ctx context.Context, q EntriesQuery) (*Entries, error)
	// Why answers why an entry is something for rules or nothing, or how a rule stands
	// for a key.
	Why(ctx context.Context, q WhyQuery) (*Why, error)
	// Curve answers with the numbers over time that a rule compares for a key.
	Curve(ctx context.Context, q CurveQuery) (*Curves, error)
	// Bench answers what a text being typed means, and what its rule would have done;
	// BenchOpen gives a settings file to type in, and BenchWrite writes it.
	Bench(ctx context.Context, q BenchQuery) (*BenchView, error)
	BenchOpen(ctx context.Context, q BenchFile) (*BenchFile, error)
	BenchNew(ctx context.Context, q BenchBegin) (*BenchFile, error)
	BenchWrite(ctx context.Context, q BenchSave) error
	// Others answers what other numbers would give in the place of that at the cursor.
	Others(ctx context.Context, q BenchQuery) (*BenchOthers, error)
	// Tests answers which tests pass, with the text being typed among the settings.
	Tests(ctx context.Context, q BenchQuery) (*Put, error)
	// Propose proposes what may end the problem of the rule being typed.
	Propose(ctx context.Context, q BenchQuery) (*Proposals, error)
	// Put says what a change of the settings would do, and does it; Past are the changes
	// that were.
	Put(ctx context.Context, q PutQuery) (*Put, error)
	Past(ctx context.Context, q PastQuery) (*PastPuts, error)
	// Mark writes into a text what entries are for its rule.
	Mark(ctx context.Context, q MarkQuery) (*Marked, error)
	// Act does what a person does to an alert: take it, hand it over, let it go, note, hush,
	// unhush. HushesNow are all hushes.
	Act(ctx context.Context, q ActQuery) (*ActDone, error)
	HushesNow(ctx context.Context) (*HushList, error)
	// StatusNow says how the service is; Handover what happened in a stretch of time.
	StatusNow(ctx context.Context) (*Status, error)
	Handover(ctx context.Context, q ShiftQuery) (*Shift, error)
	// Clear ends an alert by hand.
	Clear(ctx context.Context, q ClearQuery) error
	// Apply takes up changed settings now. It fails with what is wrong in them; the last
	// good ones go on then.
	Apply(ctx context.Context) error
	// Bring proposes settings for a log that is not watched yet, and writes them
	// where that is asked for.
	Bring(ctx context.Context, q BringQuery) (*Brought, error)
	// BeginRule proposes a rule about an entry, and writes it where that is asked
	// for.
	BeginRule(ctx context.Context, q BeginQuery) (*Begun, error)
	// Fields answers how a layout divides the entries of an origin, with what it
	// finds of values that were pointed at, and writes it where that is asked for.
	Fields(ctx context.Context, q FieldsQuery) (*FieldsView, error)
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

// ClearQuery ends an alert.
type ClearQuery struct {
	Person
	Alert string `json:"alert"`
	Words string `json:"words"`
}

// BringQuery names a log.
type BringQuery struct {
	Path   string `json:"path"`
	Begin  string `json:"begin"`  // as a rule file has it; "" is now
	Layout string `json:"layout"` // "" is the one that fits best
	Write  bool   `json:"write"`
}

// Brought is a proposal for settings of a log.
type Brought struct {
	Files []BroughtFile `json:"files"` // that fit the path
	Words string        `json:"words"` // what is the matter with the path, or ""
	Mend  string        `json:"mend"`
	Name  string        `json:"name"` // the file that will be, or was, written
	Text  string        `json:"text"`
	Done  bool          `json:"done"`

	Layouts []LayoutFit `json:"layouts"` // that could be used, best first; plain is the last
	Layout  string      `json:"layout"`  // the one in Text
	Usual   []EntryView `json:"usual"`   // entries of the kinds of which there are most
	Odd     []EntryView `json:"odd"`     // of those of which there are few
	Looked  int         `json:"looked"`  // entries that were looked at
	Copies  int         `json:"copies"`  // rotated copies beside the files
	Offers  []Offer     `json:"offers"`  // what can be brought in that is no file
}

// LayoutFit says how many of the entries that were looked at a layout fits.
type LayoutFit struct {
	Name string `json:"name"`
	Fits int    `json:"fits"`
}

// BroughtFile is a file that fits a path.
type BroughtFile struct {
	Path  string    `json:"path"`
	Size  int64     `json:"size"`
	Mod   time.Time `json:"mod"`
	Words string    `json:"words"` // why it cannot be read, or ""
	Mend  string    `json:"mend"`
}
