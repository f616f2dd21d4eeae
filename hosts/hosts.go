// Package hosts joins machines to a centre, over NATS with JetStream: a Centre is the broker and who takes what
// hosts report, a Member is a host's side of it. What a host is, a Machine says; what a centre does with what it
// is told, an Office. Nothing here judges an entry, and nothing is drawn.
//
// A host speaks under its identifier, which it gets when it joins and which never changes; its name may. What it
// decided stands in rows with numbers, each of which the centre takes once. Everything else is asked and
// answered: a host says every Beat how it is, and hears in the answer what the centre has committed, which
// revision is for it, and what people at the centre have done to its alerts.
package hosts

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Beat is how often a host says that it lives; one that has said nothing for Silence, and no goodbye, is silent.
// One that was not answered asks again after about firstPause, then after longer, up to Beat.
const (
	Beat    = 10 * time.Second
	Silence = 30 * time.Second

	firstPause = time.Second
)

// KeptSent is how long a host keeps what the centre has committed.
const KeptSent = 7 * 24 * time.Hour

// Row is what one commit of a host has decided, as it stands in the host's store. Rows are numbered from 1,
// without gaps.
type Row struct {
	Folder string `json:"folder"` // of the data folder that it stands in
	Seq    int64  `json:"seq"`
	Sum    string `json:"sum"`  // of Facts and the sum before
	Prev   string `json:"prev"` // the sum of the row before; "" of the first
	// Again counts how often the centre has asked for rows once more.
	Again int64 `json:"again,omitempty"`
	// Told are alerts of which Facts speak and the host has told contacts by itself, as a later row says.
	Told  []string        `json:"told,omitempty"`
	Facts json.RawMessage `json:"facts"`
}

// Facts are what a host tells of one commit.
type Facts struct {
	Made        entry.Instant     `json:"made"`
	Transitions []json.RawMessage `json:"transitions,omitempty"`
	Hits        []Hit             `json:"hits,omitempty"`
	// Counts are hits of which the text is not told.
	Counts []Count `json:"counts,omitempty"`
	Ticks  []Tick  `json:"ticks,omitempty"`
	Blind  []Blind `json:"blind,omitempty"`
	// Around are the lines around the hits of alerts, as JSON.
	Around map[string]json.RawMessage `json:"around,omitempty"`
	// Acted are the acts of the centre that were done; transitions that come of them are not among those above.
	Acted []string `json:"acted,omitempty"`
	// Told are alerts of which the host has told contacts by itself, since it was cut off: who told the raise
	// tells the end.
	Told []string `json:"told,omitempty"`
	// Whole tells that the transitions are all alerts that are open, since rows before were not kept.
	Whole bool `json:"whole,omitempty"`
	// Held are entries for rules that are judged at the centre.
	Held *Held `json:"held,omitempty"`
	// Reached says how far sources that feed such rules have been read.
	Reached entry.Instant `json:"reached,omitempty"`
}

// KeptEntries are entries of a host's source that are kept at the centre as well.
type KeptEntries struct {
	Source  string      `json:"source"`
	Entries []KeptEntry `json:"entries"`
}

// KeptEntry is one of them. Its ID is the same each time that it is handed over, and ends with a number that grows
// within the origin, behind a "-".
type KeptEntry struct {
	ID     string        `json:"id"`
	Origin string        `json:"origin"`
	At     entry.Instant `json:"at"`
	Text   string        `json:"text"`
}

// Hit is a hit or a recovery, as evidence.
type Hit struct {
	Rule     string        `json:"rule"`
	Fields   []string      `json:"fields"`
	Key      []string      `json:"key"`
	At       entry.Instant `json:"at"`
	Recovery bool          `json:"recovery,omitempty"`
	Origin   string        `json:"origin"`
	Offset   int64         `json:"offset"`
	Text     string        `json:"text"`
}

// Count is how many hits a key has in a bucket of time, of which the text is not told.
type Count struct {
	Rule   string   `json:"rule"`
	Fields []string `json:"fields"`
	Key    []string `json:"key"`
	Bucket int64    `json:"bucket"`
	N      int      `json:"n"`
}

// Tick counts entries of an origin in a bucket of time; see store.Bucket.
type Tick struct {
	Origin string `json:"origin"`
	Bucket int64  `json:"bucket"`
	N      int64  `json:"n"`
	Bytes  int64  `json:"bytes"`
}

// Blind says that an origin could not be seen since then, or that it can be again.
type Blind struct {
	Origin string        `json:"origin"`
	At     entry.Instant `json:"at"`
	Seen   bool          `json:"seen,omitempty"`
	Words  string        `json:"words,omitempty"`
}

// Held are entries that are something for rules that are judged at the centre, one behind the other as the journal
// writes inputs; the rules' places in them are those of Rules.
type Held struct {
	Rules  []string `json:"rules"`
	Inputs []byte   `json:"inputs"`
}

// State is what a host says of itself.
type State struct {
	Run      string              `json:"run"` // of this run of the service
	Began    entry.Instant       `json:"began"`
	At       entry.Instant       `json:"at"` // by its own clock
	OS       string              `json:"os"`
	Version  string              `json:"version"`
	Programs []string            `json:"programs,omitempty"`
	Folder   string              `json:"folder"`
	Seq      int64               `json:"seq"`     // of its newest row
	Waiting  int64               `json:"waiting"` // rows that the centre has not committed
	Oldest   int64               `json:"oldest"`  // the first row that it still has
	Runs     Running             `json:"runs"`
	Origins  []OriginState       `json:"origins,omitempty"`
	Blocks   []Block             `json:"blocks,omitempty"`
	Minute   int64               `json:"minute"` // entries that it read in the last minute
	Bye      bool                `json:"bye,omitempty"`
	Cut      *Cut                `json:"cut,omitempty"` // the longest time that it was cut off
	Feeds    bool                `json:"feeds,omitempty"`
	Beyond   []string            `json:"beyond,omitempty"` // what the centre asks and the host does not let it
	Facts    map[string][]string `json:"facts,omitempty"`
	// Blindings are the host's rules that raise where their keys cannot be seen. Where nothing is heard of it,
	// the centre raises that.
	Blindings []Blinding `json:"blindings,omitempty"`
	// Stirring are keys that are near a threshold.
	Stirring []Stir `json:"stirring,omitempty"`
}

// Stir is a key of the host that has hits which do not suffice for a threshold of its rule yet.
type Stir struct {
	Rule string   `json:"rule"`
	Key  []string `json:"key"`
	engine.Near
}

// mostStirring is how many such keys a host tells of, those that lack the fewest hits.
const mostStirring = 100

// Stirring are the keys of an engine that are near a threshold; rule finds the rules that a centre has sent, nil
// where a name is none of those.
func Stirring(keys iter.Seq[*engine.KeyView], rule func(name string) *lang.Rule, at entry.Instant) []Stir {
	var out []Stir
	for k := range keys {
		if k.Alert != "" {
			continue
		}
		if r := rule(k.Rule); r != nil {
			if near := k.Near(r, at); near.Have > 0 {
				out = append(out, Stir{k.Rule, slices.Clone(k.Key), near})
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Stir) int { return cmp.Compare(a.Need-a.Have, b.Need-b.Have) })
	return out[:min(len(out), mostStirring)]
}

// Blinding is what a rule makes of keys that cannot be seen.
type Blinding struct {
	Rule     string         `json:"rule"`
	Fields   []string       `json:"fields,omitempty"`
	Severity entry.Severity `json:"severity"`
	After    time.Duration  `json:"after,omitempty"`
	Keys     [][]string     `json:"keys"`
}

// Cut is a time without a centre.
type Cut struct {
	From entry.Instant `json:"from"`
	For  time.Duration `json:"for"`
}

// Running is the revision that a host runs, and the one that it refuses.
type Running struct {
	Number  int64         `json:"number"` // 0 is none
	Hash    string        `json:"hash,omitempty"`
	Since   entry.Instant `json:"since,omitempty"`
	Refuses *Refusal      `json:"refuses,omitempty"`
}

// Refusal is why a host does not take a revision.
type Refusal struct {
	Number int64         `json:"number"`
	At     entry.Instant `json:"at"`
	Where  string        `json:"where,omitempty"` // file and line
	Why    string        `json:"why"`
	Mend   string        `json:"mend,omitempty"`
}

func (r *Refusal) Error() string {
	s := r.Why
	if r.Where != "" {
		s = r.Where + ": " + s
	}
	if r.Mend != "" {
		s += "; " + r.Mend
	}
	return s
}

// OriginState is one log of a host.
type OriginState struct {
	Name   string        `json:"name"`
	Source string        `json:"source"`
	State  string        `json:"state"`
	Words  string        `json:"words,omitempty"`
	Behind time.Duration `json:"behind,omitempty"`
	Rules  int           `json:"rules,omitempty"`
}

// Block is a block of the settings that a host runs.
type Block struct {
	Kind    string `json:"kind"`
	Name    string `json:"name"`
	From    string `json:"from"`              // "the centre", "written here", or "kit NAME"
	Differs string `json:"differs,omitempty"` // in words, where it does
	Aside   bool   `json:"aside,omitempty"`   // it does not run
}

// Heard is what a host hears when it has said how it is.
type Heard struct {
	At    entry.Instant `json:"at"` // by the centre's clock
	Name  string        `json:"name"`
	Done  int64         `json:"done"`  // the row up to which the centre has committed
	Sum   string        `json:"sum"`   // of that row
	Again int64         `json:"again"` // see Row.Again
	Head  int64         `json:"head"`  // the revision that is for it; 0 is none
	Hash  string        `json:"hash,omitempty"`
	Acts  []Act         `json:"acts,omitempty"`
}

// Act is what somebody at the centre does to an alert of a host.
type Act struct {
	ID     string        `json:"id"`
	Alert  string        `json:"alert"`
	Change string        `json:"change"` // engine.Taken and others, or engine.Cleared
	At     entry.Instant `json:"at"`
	By     string        `json:"by"`
	Words  string        `json:"words,omitempty"`
	Until  entry.Instant `json:"until,omitempty"`
	LetGo  bool          `json:"let_go,omitempty"`
}

// Machine is a host as its Member needs it. Its methods may be called concurrently.
type Machine interface {
	// Rows are those behind a number, in their order, at most so many.
	Rows(ctx context.Context, after int64, most int) ([]Row, error)
	// State is how the machine is now.
	State(ctx context.Context) (State, error)
	// Try takes up a revision; with a *Refusal it stays with what it had.
	Try(ctx context.Context, r *Revision) error
	// Do does what somebody at the centre did.
	Do(ctx context.Context, acts []Act) error
	// Done tells up to which row the centre has committed, and its sum; rows from 1 on that the machine does
	// not have any more are made up for by one that holds all that is open.
	Done(ctx context.Context, seq int64, sum string) error
	// Answer answers a question of the ledger.
	Answer(ctx context.Context, q []byte) ([]byte, error)
	// Link says whether the centre can be reached, and how far its clock is ahead of the machine's.
	Link(up bool, clock time.Duration)
}

// Taken is what became of a row at the centre.
type Taken int

// What becomes of a row: it is committed (or was before); it is not, and is to be sent once more from the one
// behind the last that was; it is dropped for good.
const (
	TakenWell Taken = iota
	TakeAgain
	Dropped
)

// Sent is a row with who sent it.
type Sent struct {
	ID  string // the host's
	Row Row
}

// Office is what a Centre does with what it is told. Its methods may be called concurrently.
type Office interface {
	// Take commits rows, and says of each what became of it. With an error none was.
	Take(ctx context.Context, rows []Sent) ([]Taken, error)
	// Keep keeps hosts, invitations and revisions under names; nil takes one away.
	Keep(ctx context.Context, values map[string][]byte) error
	// KeepEntries keeps entries that a host hands over, those that it has kept before not once more. It may be called
	// concurrently.
	KeepEntries(id, name string, k *KeptEntries) error
	// Told says something that administrators should know.
	Told(words string)
}

// names of hosts: as those of machines are.
const longestName = 200

// CheckName says what is wrong with a host's name.
func CheckName(name string) error {
	if name == "" || len(name) > longestName {
		return fmt.Errorf("a host's name has 1 to %d characters", longestName)
	}
	if i := strings.IndexFunc(name, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_' ||
			r == '.')
	}); i >= 0 {
		return fmt.Errorf("%q is no name of a host: it has letters, digits, -, _ and . only", name)
	}
	return nil
}

// facts are those of a host as groups look at them.
func (s *State) facts() lang.Facts {
	f := lang.Facts{"os": {s.OS}, "version": {s.Version}, "program": s.Programs}
	for n, v := range s.Facts {
		f[n] = v
	}
	return f
}

// OriginAt is how an origin of a host is called at the centre: with the host's name before it.
func OriginAt(host, origin string) string {
	if origin == host || strings.HasPrefix(origin, host+":") {
		return origin
	}
	return host + ":" + origin
}
