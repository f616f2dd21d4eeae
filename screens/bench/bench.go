// Package bench is the room in which rules are made: the text of a settings file, what its
// rule means in words, what it would have done over the sample, the kinds of entries with
// what the rule makes of them, and the lifelines that would have been.
//
// The files: this one is the room, keys.go its keys, text.go the text that is typed, kinds.go
// the kinds of entries and the lifelines, trial.go what is asked about them, marks.go what is
// written into the text for the user, work.go and past.go the pages of what putting a text to
// work does and did; editor.go is the editor, draw*.go the drawings.
package bench

import (
	"context"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/screens/room"
	"dimlantern/screens/typing"

	tea "charm.land/bubbletea/v2"
)

// pane is where the keys go.
type pane int

// The panes: the list of rules, the text of one, the kinds of entries, and the lifelines.
const (
	ruleList pane = iota
	ruleText
	entryKinds
	lifeList
)

// Room is the room bench.
type Room struct {
	stage *room.Stage
	pane  pane

	rules  *api.RulesView
	filter string // of the list
	chosen string // the rule, in the list
	top    int

	text  text
	view  *api.BenchView // of the text as it is, or was when it could be judged last
	stale bool           // the text has changed since, and has errors
	// proposals may end the problem of the rule at the cursor; nil where none were asked for.
	proposals *api.Proposals
	// others is what other numbers would give in the place of that at the cursor, othersAt
	// the line that it speaks of, from 0.
	others   string
	othersAt int
	placed   struct { // where the blocks of a text stand
		text   string
		places []lang.Place
	}

	kinds kinds
	lives lives
	fed   []string // the lines that were given to the rule

	sample sample
	trial  trial
	pause  time.Duration // before a text is tried, see pause
	geo    geometry
	// leaving tells that esc was pressed once with a text that is not saved.
	leaving bool
}

// sample is what a text is tried on.
type sample struct {
	files []string      // instead of what its sources say; nil is that
	from  entry.Instant // where it was marked to begin; 0 is where the axis does
	words string        // that its entries have; "" is all
	// follow tells that the axis goes to where the files end, once they are read.
	follow bool
}

// trial is what is being asked about the text.
type trial struct {
	asked    string             // which was asked for last
	stop     context.CancelFunc // ends it; nil where none runs
	later    bool               // the text has changed since, and is tried next
	others   context.CancelFunc // ends the question about other numbers
	proposed string             // for what proposals were asked for last
}

// New returns the room, which asks by a stage.
func New(s *room.Stage) *Room {
	return &Room{stage: s, pause: pause, kinds: kinds{picked: map[string]bool{}}}
}

// Update is part of room.Room.
func (r *Room) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case room.Fresh:
		return tea.Batch(r.askRules(), r.try())
	case room.Tick:
		return r.try()
	case room.OpenRule:
		return r.openNamed(msg.Rule)
	case room.OpenText:
		return r.openFile(msg.File, msg.Line, "")
	case room.BeginText:
		return r.beginText(msg.Text)
	case room.BeginRule:
		return r.begin(msg.Source, msg.Mark)
	case tea.PasteMsg:
		if r.pane == ruleText {
			r.text.Paste(msg.Content)
			return r.try()
		}
	case tea.KeyPressMsg:
		if r.pane == ruleText && r.text.Type(msg) {
			return r.try()
		}
	case tea.MouseClickMsg:
		if r.click(msg.X, msg.Y) {
			return r.try()
		}
	}
	return nil
}

// Find is part of room.Finder: it shows the rules that have some words in their name or file.
func (r *Room) Find(words string) tea.Cmd {
	r.filter = words
	r.chooseRule(0)
	return nil
}

// Found is part of room.Finder.
func (r *Room) Found() string {
	if r.pane != ruleList {
		return ""
	}
	return r.filter
}

// Move is part of room.Finder: it chooses the row that many rows below.
func (r *Room) Move(by int) tea.Cmd {
	switch r.pane {
	case ruleList:
		r.chooseRule(by)
	case lifeList:
		r.moveLife(by)
	default:
		r.moveKind(by)
	}
	return nil
}

// open shows a file, with the cursor on a line of it, from 1.
func (r *Room) open(f *api.BenchFile, line int, fresh bool) {
	r.trial.asked, r.trial.proposed = "", ""
	r.text.Open(f.File, f.Body, line, fresh)
	r.view, r.stale, r.fed, r.leaving = nil, false, nil, false
	r.sample.words = "" // they were of what was open before
	r.kinds = kinds{picked: map[string]bool{}}
	r.pane = ruleText
}

// Draft is part of room.Unsaved.
func (r *Room) Draft() (api.Draft, bool) {
	if r.pane == ruleList {
		return api.Draft{}, false
	}
	d := api.Draft{Name: r.draftName(), File: r.text.file, Was: r.text.was, Line: r.text.Line()}
	if r.text.Changed() && r.text.Body() != r.text.began {
		d.Text = r.text.Body()
	}
	return d, true
}

// draftName is how the text that is open is called among what is not written.
func (r *Room) draftName() string {
	if r.text.Fresh() {
		return "a new rule"
	}
	return "the text of " + filepath.Base(r.text.file)
}

// restore offers what was typed into a file that is open now, and not written: in its place where the
// file is as it was then, else behind ^r.
func (r *Room) restore() {
	d, ok := r.stage.Draft(r.draftName())
	switch {
	case !ok || d.Text == r.text.Body() || d.File != r.text.file && !r.text.Fresh():
	case r.text.Fresh():
		r.text.Offer(d.Text)
		r.stage.Say("^r brings back the rule of " + api.Moment(d.At) + " that was not saved")
	case d.Was != r.text.was:
		r.text.Offer(d.Text)
		r.stage.Say("the file has changed since you typed your text of " + api.Moment(d.At) + "; ^r brings that back")
	default:
		r.text.Replace(d.Text, max(d.Line, 1))
		r.stage.Say("your text of " + api.Moment(d.At) + ", which was not saved; ^z goes back to that of the file")
	}
}

// close goes back to the rules, once the user knows that the text is not saved.
func (r *Room) close() tea.Cmd {
	if r.sample.words != "" { // all entries first
		r.sample.words = ""
		return r.try()
	}
	if r.text.Changed() && !r.leaving {
		r.leaving = true
		r.stage.Say("the text is changed and not saved: ^s saves it, esc once more leaves it as a draft")
		return nil
	}
	if d, ok := r.Draft(); ok {
		r.stage.Keep(d)
	}
	r.leaving, r.pane, r.view = false, ruleList, nil
	return r.stage.Refresh()
}

// listed are the rules of the list that are shown.
func (r *Room) listed() []api.RuleCost {
	if r.rules == nil {
		return nil
	}
	var out []api.RuleCost
	for _, x := range r.rules.Rules {
		if strings.Contains(strings.ToLower(x.Rule+" "+x.File), strings.ToLower(r.filter)) &&
			strings.HasSuffix(x.File, ".lantern") {
			out = append(out, x)
		}
	}
	return out
}

func (r *Room) index() int {
	return slices.IndexFunc(r.listed(), func(x api.RuleCost) bool { return x.Rule == r.chosen })
}

// rule is the chosen rule of the list; nil where there is none.
func (r *Room) rule() *api.RuleCost {
	if i := r.index(); i >= 0 {
		x := r.listed()[i]
		return &x
	}
	return nil
}

// chooseRule chooses the rule that many rows below.
func (r *Room) chooseRule(by int) {
	if list := r.listed(); len(list) > 0 {
		r.chosen = list[min(max(max(r.index(), 0)+by, 0), len(list)-1)].Rule
	}
}

// geometry is where things were drawn last, so that a click finds them.
type geometry struct {
	textX, textY, textW int
	lines               []int // of each row of the text, the line from 0; -1 is none
	kindsY              int
	kinds               []string
	listY               int
	list                []string
}

// click does what a click at a cell stands for; false where nothing is there.
func (r *Room) click(x, y int) bool {
	g := &r.geo
	if r.pane == ruleList {
		if i := y - g.listY; i >= 0 && i < len(g.list) {
			r.chosen = g.list[i]
			return true
		}
		return false
	}
	if i := y - g.textY; i >= 0 && i < len(g.lines) && x >= g.textX && x < g.textX+g.textW {
		line := g.lines[i]
		if line < 0 {
			return false
		}
		body := r.text.Body()
		r.text.set(draft{body, line, typing.CharAt(lineOf(body, line), max(x-g.textX-5, 0))})
		r.pane = ruleText
		return true
	}
	if i := y - g.kindsY; i >= 0 && i < len(g.kinds) {
		r.toKinds()
		r.kinds.chosen = g.kinds[i]
		return true
	}
	return false
}
