// Package screens is the full-screen terminal application: the frame with its time axis and
// lamp, and the rooms in it. It asks an api.Lantern and tells it what the user does; it holds
// no truth of its own.
package screens

import (
	"os"
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/screens/bench"
	"dimlantern/screens/hosts"
	"dimlantern/screens/ledger"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"
	"dimlantern/screens/sources"
	"dimlantern/screens/watch"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/dustin/go-humanize/english"
)

// Options of the screens.
type Options struct {
	Lantern api.Lantern
	Name    string // what the settings are called
	User    string // who acts, in the record
	// Terminal is where that is, such as lock-3 /dev/pts/2.
	Terminal string
	Where    string // overrides where the service says that it runs
	Marks    string // "plain" draws with ASCII alone; "" decides by the terminal
	Ground   string // "dark" or "light"; "" asks the terminal
}

// Model is the whole application.
type Model struct {
	o     Options
	stage *room.Stage
	rooms [5]room.Room // by the order of their digits
	start room.Room    // what is shown where nothing is watched yet
	at    room.At
	plain bool
	blank func(w, h int, ground paint.Color) *paint.Canvas // what is drawn on
	// names is where the rooms' names stand in the first row.
	names [5]int

	failed    string // why the service could not be asked
	busy      bool   // a view is asked for
	asking    time.Time
	slow      time.Duration // how long the last one took
	stale     bool          // it has to be asked for once more
	listening bool          // for news
	news      api.News
	warned    time.Time // when it was last said what is not saved
}

func newModel(o Options) *Model {
	m := &Model{o: o, blank: paint.New, plain: o.Marks == "plain" || o.Marks == "" && poorTerminal()}
	m.stage = room.NewStage(m.goTo, m.ask)
	m.stage.Lantern, m.stage.User, m.stage.Terminal = o.Lantern, o.User, o.Terminal
	m.stage.Lend = tea.ExecProcess
	if o.Ground == "light" {
		m.setPalette(paint.Light())
	}
	m.rooms = [5]room.Room{watch.New(m.stage), bench.New(m.stage), sources.New(m.stage), ledger.New(m.stage),
		hosts.New(m.stage)}
	m.start = sources.NewStart(m.stage, o.Name)
	return m
}

func (m *Model) title() string { return "Dim Lantern: " + m.o.Name }

// poorTerminal tells whether the terminal's fonts or its locale lack the marks.
func poorTerminal() bool {
	if os.Getenv("TERM") == "linux" {
		return true
	}
	for _, v := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if s := os.Getenv(v); s != "" {
			s = strings.ToLower(s)
			return !strings.Contains(s, "utf-8") && !strings.Contains(s, "utf8")
		}
	}
	return false
}

func (m *Model) setPalette(p paint.Palette) {
	p.Mono = m.stage.Palette.Mono
	m.stage.Palette = p
}

// Init is part of tea.Model.
func (m *Model) Init() tea.Cmd { return tea.Batch(tea.RequestBackgroundColor, tick(0)) }

// current is what the keys go to: the uppermost page, or the room.
func (m *Model) current() room.Room {
	if n := len(m.stage.Pages); n > 0 {
		return m.stage.Pages[n-1]
	}
	if m.stage.Empty() {
		return m.start
	}
	return m.rooms[m.at]
}

// goTo shows a room.
func (m *Model) goTo(at room.At) tea.Cmd {
	m.at = at
	return tea.Batch(m.ask(), m.fresh())
}

// fresh lets the room where one is ask for what it shows.
func (m *Model) fresh() tea.Cmd {
	if m.stage.View == nil {
		return nil
	}
	return m.current().Update(room.Fresh{})
}

// Update is part of tea.Model.
func (m *Model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	s := m.stage
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		s.W, s.H = msg.Width, msg.Height
		return m, m.ask()
	case tea.BackgroundColorMsg:
		if m.o.Ground == "" && !msg.IsDark() {
			m.setPalette(paint.Light())
		}
	case tea.ColorProfileMsg:
		s.Palette.Mono = msg.Profile <= colorprofile.ASCII
	case tickMsg:
		return m, m.ticked(time.Time(msg))
	case room.Answer:
		return m, msg.Do()
	case room.OpenRule, room.OpenText, room.BeginRule, room.BeginText:
		return m, tea.Batch(s.Go(room.Bench), m.rooms[room.Bench].Update(msg))
	case room.AskAbout:
		return m, m.rooms[room.Ledger].Update(msg)
	case room.AskHelp:
		m.openHelp()
	case tea.KeyPressMsg:
		return m, m.key(msg)
	case tea.MouseClickMsg:
		return m, m.click(msg)
	case tea.MouseWheelMsg:
		k := tea.KeyPressMsg{Code: tea.KeyDown}
		if msg.Button == tea.MouseWheelUp {
			k.Code = tea.KeyUp
		}
		return m, m.key(k)
	case tea.PasteMsg:
		if s.Typed != nil {
			return m, s.Type(msg)
		}
		return m, m.current().Update(msg)
	case tea.MouseMotionMsg, tea.MouseReleaseMsg:
		return m, m.current().Update(msg)
	}
	return m, nil
}

// key does what a key stands for where one is.
func (m *Model) key(k tea.KeyPressMsg) tea.Cmd {
	if k.String() == "ctrl+c" {
		return m.leave()
	}
	if m.stage.Typed != nil {
		return m.stage.Type(k)
	}
	on := m.current()
	if is := m.keys(on).Of(k); is != nil && is.Do != nil {
		return is.Do(k.String())
	}
	return on.Update(k)
}

// keys are the keys of a room, and those that all of them have in common.
func (m *Model) keys(on room.Room) room.Keys {
	k := on.Keys()
	if v := m.stage.View; v != nil {
		k.List = slices.DeleteFunc(k.List, func(x room.Key) bool { return x.Right > v.May && v.May != api.NoRight })
	}
	if k.Alone {
		return k
	}
	own := len(k.List)
	for _, c := range m.common(on) {
		if !slices.ContainsFunc(k.List[:own], func(x room.Key) bool {
			return slices.Contains(x.Binding.Keys(), c.Binding.Keys()[0])
		}) {
			k.List = append(k.List, c)
		}
	}
	return k
}

// common are the keys that do the same in every room.
func (m *Model) common(on room.Room) []room.Key {
	s := m.stage
	lamp := room.On("left right shift+left shift+right", func(name string) tea.Cmd {
		return s.Hold(map[string]int{"left": -1, "right": 1, "shift+left": -10, "shift+right": 10}[name])
	}).Marked("←→").Told("hold the lamp earlier, later; with shift ten times as far").Said("back in time", "back")
	live := room.Do("space", s.Live).Told("the lamp stands at what is now again")
	span := room.On("+ -", func(name string) tea.Cmd { return s.Widen(map[string]int{"+": 1, "-": -1}[name]) }).
		Told("a longer, a shorter span")
	if s.Held != 0 {
		lamp, live = lamp.Said("earlier, later", "back"), live.Said("live again", "live")
	} else if on == m.rooms[room.Watch] {
		span = span.Said("span", "")
	}
	list := []room.Key{lamp, live, span}
	if f, ok := on.(room.Finder); ok {
		list = append(list, room.Now("/", func() { m.find(f) }).Said("find", "find").
			Told("find by names, words, or what is the matter"))
	}
	if m.stage.Empty() {
		list = nil
	}
	return append(list,
		room.On("1 2 3 4 5", func(name string) tea.Cmd {
			s.Note = "" // what was said was of another room
			to := room.At(name[0] - '1')
			if x, ok := on.(room.Asked); ok && to == room.Ledger {
				if about, chosen := x.About(); chosen {
					return tea.Sequence(s.Go(to), room.Send(about))
				}
			}
			return s.Go(to)
		}).
			Told("the rooms watch, bench, sources, ledger and hosts; 4 asks about what is chosen"),
		room.Now("?", m.openHelp).Said("help", "help").Told("this; esc leads back"),
		room.Do("q", m.quit).Said("leave", "leave").
			Told("leave; the logs go on without you"))
}

// quit leaves, once the user knows what is not saved.
func (m *Model) quit() tea.Cmd {
	m.keepDrafts()
	unsaved := m.stage.Unwritten()
	if len(unsaved) == 0 || time.Since(m.warned) < warning {
		return m.leave()
	}
	m.warned = time.Now()
	m.stage.Say("not written: " + english.WordSeries(unsaved, "and") + "; it is kept as a draft. q once more leaves")
	return nil
}

// keepDrafts keeps what the rooms hold that is not saved.
func (m *Model) keepDrafts() {
	for _, r := range m.rooms {
		if x, ok := r.(room.Unsaved); ok {
			if d, open := x.Draft(); open {
				m.stage.Keep(d)
			}
		}
	}
}

// leave ends the screens, once the service has what was not saved.
func (m *Model) leave() tea.Cmd {
	m.keepDrafts()
	if cmd := m.stage.Settle(); cmd != nil {
		return tea.Sequence(cmd, tea.Quit)
	}
	return tea.Quit
}

// warning is how long q leaves all the same after it was said what is not saved.
const warning = 10 * time.Second

// find shows of a room what has some words, while they are typed.
func (m *Model) find(f room.Finder) {
	p := room.Prompt{Label: "finding", Hint: "enter keep it   esc show all again", Changed: f.Find,
		Move: f.Move, Left: func() tea.Cmd { return f.Find("") }}
	if x, ok := f.(room.Scoped); ok {
		p.Label, p.Hint, p.Offers = x.Scope(), "tab elsewhere   "+p.Hint, x.Offers
		p.Next = func(p *room.Prompt) tea.Cmd {
			cmd := x.Widen()
			p.Label = x.Scope()
			return cmd
		}
	}
	m.stage.Prompt(p, f.Found())
}

// click holds the lamp at a moment of the axis, goes to a room, or goes on to what is shown.
func (m *Model) click(msg tea.MouseClickMsg) tea.Cmd {
	at, s := msg.Mouse(), m.stage
	if s.View == nil || s.Typed != nil || at.Button != tea.MouseLeft {
		return nil
	}
	switch a := s.Axis(); {
	case len(s.Pages) > 0:
	case at.Y >= m.footTop():
		k := at.X - a.X
		if k < 0 || k >= a.Columns {
			return nil
		}
		if t := a.At(k) - 1; t < s.View.Now {
			return s.HoldAt(t)
		}
		return s.Live()
	case at.Y == 0:
		for i, x := range m.names {
			if x > 0 && at.X >= x-2 && at.X < x+8 {
				return s.Go(room.At(i))
			}
		}
		return nil
	}
	return m.current().Update(msg)
}
