// Package room is what the rooms of the screens have in common: what a room is, the stage
// that all of them stand on, their keys, the line that is typed at the bottom, and words that
// several of them use.
//
// Nothing here draws a room or knows one.
package room

import (
	"strings"

	"dimlantern/api"
	"dimlantern/screens/paint"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
)

// Room is a room of the screens, or a page that lies over one. It asks the service by its
// stage, and holds no truth. Its methods are called by the screens alone, one after the other.
type Room interface {
	// Update takes in what concerns the room: Fresh, a key that none of Keys stands for, text
	// that was pasted, what the mouse did. What it returns runs beside the screens.
	Update(msg tea.Msg) tea.Cmd
	// Draw draws the room into the rows top to bottom (bottom excluded) of the canvas.
	Draw(c *paint.Canvas, top, bottom int)
	// Keys are what keys do there now.
	Keys() Keys
}

// Asked is a room in which something may be chosen about which a question can be asked.
type Asked interface {
	// About is what is chosen; false where nothing is.
	About() (AskAbout, bool)
}

// Finder is a room of which only what has some words can be shown.
type Finder interface {
	// Find shows what has the words; "" shows all.
	Find(words string) tea.Cmd
	// Found are the words that what is shown has; "" is all.
	Found() string
	// Move chooses the row that many rows below.
	Move(by int) tea.Cmd
}

// Unsaved is a room that may hold what is not saved.
type Unsaved interface {
	// Draft is that text, with an empty one where all is saved; false where nothing is open.
	Draft() (api.Draft, bool)
}

// Scoped is a Finder that can look further around.
type Scoped interface {
	Finder
	// Scope says where is looked.
	Scope() string
	// Widen looks further around, or, from the widest on, in the narrowest place again.
	Widen() tea.Cmd
	// Offers are texts with which what is typed can go on.
	Offers(typed string) []string
}

// Explained is a room or a page that says more in help than its keys.
type Explained interface{ Help() Help }

// Help is what help says of a room.
type Help struct {
	Title, About string
	Marks        []Mark
	Keys         []Keys
	Last         string // at the end
}

// Mark is a mark that a room draws with.
type Mark struct {
	Text  string
	Style paint.Style
	Says  string
}

// Keys are what keys do at a place. The zero value has none.
type Keys struct {
	Where string // what one does there, such as "choosing alerts"
	List  []Key
	// Alone tells that keys that are not in the list go to the room, and not to the screens.
	Alone bool
}

// Key is what one or several keys do. Its help is how they are written and its word in the
// key line, which is "" where it does not stand there.
type Key struct {
	key.Binding
	Short string // the word in the key line of a narrow window; "" is that it does not stand there
	Long  string // what help says; "" is that it does not stand there
	// Right is what one must be allowed to do for it; the zero value is nothing. Without it the key is not offered.
	Right api.Right
	// Do does it. The name is the key's that was pressed.
	Do func(name string) tea.Cmd
}

// written is how keys are written in the key line and in help, where that is not their name.
var written = map[string]string{"up": "↑", "down": "↓", "left": "←", "right": "→", "shift+up": "shift ↑",
	"shift+down": "shift ↓", "alt+up": "alt ↑", "alt+down": "alt ↓", "pgdown": "pgdn"}

// On binds keys, which are separated by spaces, to what they do.
func On(names string, do func(name string) tea.Cmd) Key {
	list := strings.Fields(names)
	var mark string
	for i, n := range list {
		w, ok := written[n]
		if !ok {
			w = strings.Replace(n, "ctrl+", "^", 1)
		}
		if mark != "" && !(list[i-1] == "up" && n == "down" || list[i-1] == "left" && n == "right") {
			mark += " "
		}
		mark += strings.TrimPrefix(w, sameLead(list, i))
	}
	return Key{Binding: key.NewBinding(key.WithKeys(list...), key.WithHelp(mark, "")), Do: do}
}

// sameLead is the "alt " or "shift " that stands already before the key before.
func sameLead(list []string, i int) string {
	if i > 0 {
		if lead, _, ok := strings.Cut(list[i], "+"); ok && lead != "ctrl" && strings.HasPrefix(list[i-1], lead+"+") {
			return lead + " "
		}
	}
	return ""
}

// Do binds keys to what they do, whichever of them it is.
func Do(names string, do func() tea.Cmd) Key { return On(names, func(string) tea.Cmd { return do() }) }

// Now binds keys to what is done at once.
func Now(names string, do func()) Key {
	return On(names, func(string) tea.Cmd { do(); return nil })
}

// Marked returns the key written otherwise.
func (k Key) Marked(mark string) Key {
	k.SetHelp(mark, k.Help().Desc)
	return k
}

// Said returns the key with its word in the key line, and in that of a narrow window.
func (k Key) Said(word, short string) Key {
	k.SetHelp(k.Help().Key, word)
	k.Short = short
	return k
}

// Needs returns the key for those alone who have a right.
func (k Key) Needs(r api.Right) Key {
	k.Right = r
	return k
}

// Told returns the key with what help says of it.
func (k Key) Told(long string) Key {
	k.Long = long
	return k
}

// Of is the key of the list that a name stands for; nil where none is.
func (k Keys) Of(name tea.KeyPressMsg) *Key {
	for i := range k.List {
		if key.Matches(name, k.List[i].Binding) {
			return &k.List[i]
		}
	}
	return nil
}

// Steps is how far a key that moves among rows goes, where a page has that many; the names
// are those of [Moving].
func Steps(name string, page int) int {
	return map[string]int{"up": -1, "down": 1, "shift+up": -10, "shift+down": 10, "pgup": -page, "pgdown": page,
		"home": -1 << 20, "end": 1 << 20}[name]
}

// Moving are the names of the keys that move among rows.
const Moving = "up down shift+up shift+down pgup pgdown home end"

// Move binds the keys that move among rows.
func Move(page int, by func(n int) tea.Cmd) Key {
	return On(Moving, func(name string) tea.Cmd { return by(Steps(name, page)) }).Marked("↑↓")
}

// The messages that the screens and their rooms send each other.
type (
	// Fresh tells the room where one is that the stage has a new view, or that one has come
	// here: it asks for what else it shows.
	Fresh struct{}
	// AskHelp asks for the help of what is shown.
	AskHelp struct{}
	// Tick tells the room where one is that a second has passed.
	Tick struct{}
	// OpenRule asks for the bench, with a rule opened there.
	OpenRule struct{ Rule string }
	// OpenText asks for the bench, with a settings file opened there at a line, from 1.
	OpenText struct {
		File string
		Line int
	}
	// AskAbout asks for the ledger, with a question about a rule and a key, or about an origin.
	AskAbout struct {
		Rule, Source, Origin string
		Key                  []string
	}
	// BeginText asks for the bench, with the text of a new rule there.
	BeginText struct{ Text string }
	// BeginRule asks for the bench, with a new rule of a source there; Mark is of which entry,
	// nil is of none yet.
	BeginRule struct {
		Source string
		Mark   *api.MarkQuery
	}
)

// Send returns what sends a message.
func Send(msg tea.Msg) tea.Cmd { return func() tea.Msg { return msg } }

// Reword changes the words of keys in the key line: name, word, short word, and so on. A name
// is that of the first key of a binding.
func (k *Keys) Reword(words ...string) {
	for i := 0; i+2 < len(words); i += 3 {
		for n := range k.List {
			if k.List[n].Binding.Keys()[0] == words[i] {
				k.List[n] = k.List[n].Said(words[i+1], words[i+2])
			}
		}
	}
}
