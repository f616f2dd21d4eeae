// Package verdict is what a match says of an entry: what it may be for which rules, by which
// keys and with which values. Who matches writes it and the engine reads it; nothing is
// decided here.
package verdict

import (
	"dimlantern/core/entry"
)

// Judged is an entry that is something for at least one rule.
type Judged struct {
	Entry *entry.Entry
	// Reached is the latest own time of the entry's origin so far.
	Reached entry.Instant
	// Next is the offset behind the entry in its file.
	Next int64
	// Verdicts are in the order of the rules, at most one a rule.
	Verdicts []Verdict
}

// Verdict is what an entry may be for a rule. Which of several it is, the state of the
// rule decides: see take.
type Verdict struct {
	Rule     int           // the rule's place in the engine
	At       entry.Instant // the entry's own time, for this rule
	Hit      bool
	Recovery bool
	Awaited  bool // it is what the rule awaits
	Question bool // it is what starts the awaiting
	Counted  bool // it is among the entries that a share is a share of
	// Key are the values of the rule's key fields; "" is lacking. RecoveryKey are
	// those that the entry has as a recovery.
	Key, RecoveryKey []string
	Follows          []Follow
	// Where has a bit for each raise whose where holds for the hit.
	Where uint64
	// Values are those of the fields that the rule measures, in its order.
	Values []string
	// Vars are the fields that the rule's texts name.
	Vars []entry.Field
}

// Follow tells that an entry is what is to follow a threshold.
type Follow struct {
	Raise int // the raise's place in the rule
	Key   []string
}

// Keys are all keys of the verdict.
func (v *Verdict) Keys() [][]string {
	out := [][]string{v.Key, v.RecoveryKey}
	for i := range v.Follows {
		out = append(out, v.Follows[i].Key)
	}
	return out
}
