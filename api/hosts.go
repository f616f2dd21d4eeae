package api

import (
	"time"

	"dimlantern/core/entry"
)

// HostsView is who reports to this machine, at an instant; of a machine that is no centre it is the machine alone.
type HostsView struct {
	At      entry.Instant `json:"at"`
	From    entry.Instant `json:"from"`
	Until   entry.Instant `json:"until"`
	Column  time.Duration `json:"column"`
	Live    bool          `json:"live"`
	Centre  bool          `json:"centre"`
	Address string        `json:"address,omitempty"` // where hosts reach it
	Name    string        `json:"name"`              // of this machine
	Newest  int64         `json:"newest"`            // revision; 0 is none
	Pending string        `json:"pending,omitempty"` // what differs between the settings and that
	Halted  string        `json:"halted,omitempty"`  // how the last rollout halted
	Groups  []HostGroup   `json:"groups"`
	Hosts   []HostView    `json:"hosts"`
	Link    *LinkView     `json:"link,omitempty"` // of a machine that has joined a centre
	Invites []InviteView  `json:"invites,omitempty"`
}

// HostGroup is a group, and what its hosts run.
type HostGroup struct {
	Name  string   `json:"name"`
	Words string   `json:"words"` // who is in it, and which kits it has
	Note  string   `json:"note,omitempty"`
	File  string   `json:"file,omitempty"`
	Line  int      `json:"line,omitempty"`
	Kits  []string `json:"kits"`
	Hosts []string `json:"hosts"`
}

// HostView is a host on the time axis.
type HostView struct {
	Name     string         `json:"name"`
	Groups   []string       `json:"groups"`
	Worst    entry.Severity `json:"worst"` // of its open alerts; 0 where none is open
	Open     int            `json:"open"`
	Over     bool           `json:"over"` // an alert of it was open on the axis, and is over
	Flow     []int64        `json:"flow"` // entries, by column
	Dark     []Span         `json:"dark"` // when it was silent
	Minute   int64          `json:"minute"`
	Reports  bool           `json:"reports"`
	Silent   bool           `json:"silent"`
	Later    bool           `json:"later,omitempty"` // it had not joined yet
	Bye      bool           `json:"bye"`             // it was ended in order
	Since    entry.Instant  `json:"since"`
	Joined   entry.Instant  `json:"joined"`
	Behind   time.Duration  `json:"behind"` // the most that one of its logs is behind
	Clock    time.Duration  `json:"clock"`  // how far its clock is ahead of the centre's
	Waits    int64          `json:"waits"`  // commits that the centre has not taken yet
	Cut      time.Duration  `json:"cut"`    // the longest that it was cut off
	CutAt    entry.Instant  `json:"cut_at"`
	Head     int64          `json:"head"` // the revision that is for it
	Runs     int64          `json:"runs"`
	RunsFrom entry.Instant  `json:"runs_from"`
	Refuses  *RefusalView   `json:"refuses,omitempty"`
	Cloned   string         `json:"cloned,omitempty"`
	Beyond   []string       `json:"beyond,omitempty"` // what it does not let the centre do
	Acts     int            `json:"acts"`             // of people, that are on their way to it
	OS       string         `json:"os"`
	Version  string         `json:"version"`
	Tags     []string       `json:"tags,omitempty"`
	Origins  []HostOrigin   `json:"origins,omitempty"`
	Blocks   []HostBlock    `json:"blocks,omitempty"`
}

// RefusalView is why a host does not take a revision.
type RefusalView struct {
	Number int64         `json:"number"`
	At     entry.Instant `json:"at"`
	Where  string        `json:"where,omitempty"`
	Why    string        `json:"why"`
	Mend   string        `json:"mend,omitempty"`
}

// HostOrigin is a log of a host.
type HostOrigin struct {
	Name   string        `json:"name"`
	Source string        `json:"source"`
	State  string        `json:"state"`
	Words  string        `json:"words,omitempty"`
	Behind time.Duration `json:"behind"`
	Rules  int           `json:"rules"`
}

// HostBlock is a block of the settings that a host runs.
type HostBlock struct {
	Kind    string `json:"kind"`
	Name    string `json:"name"`
	From    string `json:"from"`
	Differs string `json:"differs,omitempty"`
	Aside   bool   `json:"aside,omitempty"`
	Text    string `json:"text,omitempty"`
}

// LinkView is how a joined machine stands to its centre.
type LinkView struct {
	Name    string        `json:"name"`
	Centre  string        `json:"centre"`
	Up      bool          `json:"up"`
	Since   entry.Instant `json:"since"`
	Clock   time.Duration `json:"clock"`
	Waits   int64         `json:"waits"`
	Number  int64         `json:"number"`
	Refuses string        `json:"refuses,omitempty"`
	Beyond  []string      `json:"beyond,omitempty"`
}

// InviteView is an invitation that holds still.
type InviteView struct {
	ID    string        `json:"id"`
	Names []string      `json:"names"`
	Left  int           `json:"left"` // how many may still join
	Used  []string      `json:"used,omitempty"`
	Until entry.Instant `json:"until"`
	By    string        `json:"by,omitempty"`
}

// InviteQuery asks for an invitation.
type InviteQuery struct {
	Person
	Names   []string      `json:"names"`   // patterns; none is any name
	Hosts   int           `json:"hosts"`   // how many may join by it; 0 is one
	For     time.Duration `json:"for"`     // 0 is an hour
	Address string        `json:"address"` // where hosts reach the centre; "" finds one
}

// Invited is an invitation: the code is secret, and is told once.
type Invited struct {
	Code    string     `json:"code"`
	Address string     `json:"address"`
	Invite  InviteView `json:"invite"`
}

// HostQuery is what is to be done to a host.
type HostQuery struct {
	Person
	What string `json:"what"` // rename, forget, or, of an invitation, take back
	Host string `json:"host"` // its name, or the identifier of an invitation
	To   string `json:"to"`   // to rename
}

// RollQuery rolls the settings out.
type RollQuery struct {
	Person
	To   []string `json:"to"`   // all, "group NAME", or names of hosts
	Stop int      `json:"stop"` // after so many refusals; 0 is never
	Back int64    `json:"back"` // the revision whose text is taken; 0 is the settings as they are
	Do   bool     `json:"do"`   // else it is only said what it would do
}

// RollDone is what a rollout does.
type RollDone struct {
	Number int64    `json:"number"`
	Hosts  []string `json:"hosts"`
	Words  string   `json:"words"` // what differs from the revision before
	Same   bool     `json:"same"`
}

// RevisionView is a revision.
type RevisionView struct {
	Number int64         `json:"number"`
	At     entry.Instant `json:"at"`
	By     string        `json:"by,omitempty"`
	Words  string        `json:"words,omitempty"`
	Back   int64         `json:"back,omitempty"`
	To     []string      `json:"to"`
	Run    []string      `json:"run"` // hosts that run it
}

// RevisionList are all revisions, the newest first.
type RevisionList struct {
	Revisions []RevisionView `json:"revisions"`
	Halted    string         `json:"halted,omitempty"`
}

// EffectiveQuery asks what a host runs, or this machine.
type EffectiveQuery struct {
	Host string `json:"host"` // "" is this machine
}

// Effective is what a host runs, each block with where it comes from.
type Effective struct {
	Host   string      `json:"host"`
	Number int64       `json:"number"` // of the revision; 0 is none
	Blocks []HostBlock `json:"blocks"`
}

// OthersQuery is a question that goes to the hosts of groups, as they get it.
type OthersQuery struct {
	Groups   []string `json:"groups"`
	Question []byte   `json:"question"`
}

// OthersAnswers are their answers.
type OthersAnswers struct {
	Names   []string       `json:"names"` // who was asked
	Answers []OthersAnswer `json:"answers"`
}

// OthersAnswer is the answer of a host.
type OthersAnswer struct {
	Name    string `json:"name"`
	Answer  []byte `json:"answer,omitempty"`
	Problem string `json:"problem,omitempty"` // why there is none
}
