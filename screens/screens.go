// Package screens is the full-screen terminal application: the frame with its
// time axis and lamp, and the rooms in it. It asks a api.Lantern and tells it
// what the user does; it holds no truth of its own.
package screens

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"dimlantern/api"

	"dimlantern/core/entry"
	"dimlantern/screens/bench"
	"dimlantern/screens/divide"
	"dimlantern/screens/paint"
	"dimlantern/screens/sources"
	"dimlantern/screens/watch"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
)

// Options of the screens.
type Options struct {
	Lantern api.Lantern
	Name    string // what the settings are called
	User    string // who acts, in the record
	// Terminal is where that is, such as lock-3 /dev/pts/2.
	Terminal string
	Where    string // overrides where the service says that it runs
	Demo     bool
	Marks    string // "plain" draws with ASCII alone; "" decides by the terminal
	Ground   string // "dark" or "light"; "" asks the terminal
}

// Run shows the screens until the user leaves them.
func Run(o Options) error {
	m := newModel(o)
	_, err := tea.NewProgram(m, tea.WithFPS(120)).Run()
	return err
}

// Model is the whole application.
type Model struct {
	o        Options
	w, h     int
	palette  paint.Palette
	mono     bool
	plain    bool
	room     watch.Room
	view     *api.View
	detail   *api.Detail
	detailOf detailOf
	asked    string // which detail was asked for last
	// curveAsked is which numbers were asked for last.
	curveAsked string
	failed     string        // why the service could not be asked
	held       entry.Instant // the lamp; 0 is live
	until      entry.Instant // the right edge of the axis while the lamp is held
	zoom       int           // in widths
	mode       mode
	input      string
	note       string // what the last action did
	noted      time.Time
	first      bringIn
	rule       beginRule
	why        whyRead
	prompt     prompt
	undoAct    *api.ActQuery // what takes the last action back; nil is none
	hushes     *api.HushList
	hushAt     int
	hushNote   string
	put        putWork
	past       *api.PastPuts
	pastAt     int
	files      []string      // to try rules on, instead of what their sources say; nil is that
	sampleFrom entry.Instant // where the sample was marked to begin; 0 is where the axis does
	toSample   bool          // the axis goes to where the files end, once they are read
	words      string        // that entries of the sample have; "" is all
	proposed   string        // for what proposals were asked for last
	inRoom     int
	roomAt     [3]int // where the rooms' names stand
	sources    sources.Room
	bench      bench.Room
	// benchAsked is which trial was asked for last, stopBench ends it.
	benchAsked string
	stopBench  context.CancelFunc
	benchLater bool // the text has changed since, and is tried next
	stopOthers context.CancelFunc
	leaving    bool // esc was pressed once with a text that is not saved
	srcView    *api.SourcesView
	entries    *api.Entries
	divide     *divide.Work
	back       mode // where help leads back to
	// fieldsAsked is the question about fields that is open, stopFields ends it.
	fieldsAsked string
	stopFields  context.CancelFunc
	busy        bool
	asking      time.Time     // when the view was asked for last
	slow        time.Duration // how long the last one took
	stale       bool          // it has to be asked for once more
	listening   bool          // for news
	news        api.News
}

// mode is what the keys do.
type mode int

const (
	choosing mode = iota
	finding
	clearing
	helping
	bringing
	beginning
	dividing
	whying
	asking    // a line is being typed: see prompt
	putting   // a change is shown before it is done
	recalling // what was put to work before
	hushing   // all hushes
)

// The rooms, by the order of their digits.
const (
	inWatch = iota
	inBench
	inSources
)

// widths are the widths of a column of the axis.
var widths = []time.Duration{10 * time.Second, 20 * time.Second, 30 * time.Second, time.Minute, 2 * time.Minute,
	5 * time.Minute,
	10 * time.Minute, 30 * time.Minute, time.Hour, 3 * time.Hour, 12 * time.Hour, 24 * time.Hour}

const startWidth = 3

func newModel(o Options) *Model {
	m := &Model{o: o, palette: paint.Dark(), zoom: startWidth}
	if o.Ground == "light" {
		m.palette = paint.Light()
	}
	m.plain = o.Marks == "plain" || o.Marks == "" && poorTerminal()
	return m
}

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

// Init is part of tea.Model.
func (m *Model) Init() tea.Cmd {
	return tea.Batch(tea.RequestBackgroundColor, tick(0))
}

type (
	tickMsg time.Time
	newsMsg struct {
		news api.News
		err  error
	}
	viewMsg struct {
		view    *api.View
		sources *api.SourcesView // in the room sources
		rules   *api.RulesView   // in the room bench
	}
	entriesMsg struct {
		asked   string
		entries *api.Entries
	}
	curveMsg struct {
		asked  string
		curves *api.Curves
	}
	detailMsg struct {
		asked  string
		detail *api.Detail
	}
	failedMsg struct{ err error }
	doneMsg   struct {
		text string
		err  error
	}
)

func tick(d time.Duration) tea.Cmd {
	return tea.Tick(d, func(t time.Time) tea.Msg { return tickMsg(t) })
}

const patience = 5 * time.Second

// restless is how long a view stands at most: what it says of how long things last gets old.
const restless = 5 * time.Second

// listen asks for news, where it does not already. In a flood every round brings some: views
// that are slow to make are asked for less often.
func (m *Model) listen() tea.Cmd {
	if m.listening || m.view == nil {
		return nil
	}
	m.listening = true
	q := api.NewsQuery(m.news)
	pause := time.Until(m.asking.Add(max(100*time.Millisecond, 8*m.slow)))
	return func() tea.Msg {
		time.Sleep(pause)
		ctx, cancel := context.WithTimeout(context.Background(), 4*patience)
		defer cancel()
		n, err := api.AskNews.Call(ctx, m.o.Lantern, q)
		if err != nil {
			return newsMsg{err: err}
		}
		return newsMsg{news: *n}
	}
}

// ask asks for the view that the screen shows now.
func (m *Model) ask() tea.Cmd {
	if m.busy || m.w == 0 {
		return nil
	}
	m.busy, m.asking = true, time.Now()
	q := api.ViewQuery{At: m.held, Until: m.until, Column: widths[m.zoom], Columns: watch.ColumnsOf(m.w).LifeWidth}
	room := m.inRoom
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		v, err := api.AskView.Call(ctx, m.o.Lantern, q)
		if err != nil {
			return failedMsg{err}
		}
		out := viewMsg{view: v}
		switch room {
		case inSources:
			out.sources, err = api.AskSources.Call(ctx, m.o.Lantern, q)
		case inBench:
			out.rules, err = api.AskRules.Call(ctx, m.o.Lantern, api.None{})
		}
		if err != nil {
			return failedMsg{err}
		}
		return out
	}
}

// askEntries asks for the entries of the chosen origin.
func (m *Model) askEntries() tea.Cmd {
	_, o := m.sources.Chosen()
	if o == nil {
		m.entries = nil
		return nil
	}
	q := api.EntriesQuery{Origin: o.Name, At: m.held, Lines: 300}
	if m.sources.Inside {
		q.Filter, q.Misfits = m.sources.Filter, m.sources.Misfits
	}
	asked := fmt.Sprint(q)
	m.asked = asked
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		e, err := api.AskEntries.Call(ctx, m.o.Lantern, q)
		if err != nil {
			return failedMsg{err}
		}
		return entriesMsg{asked, e}
	}
}

// askChosen asks for what the room shows of what is chosen.
func (m *Model) askChosen() tea.Cmd {
	switch m.inRoom {
	case inSources:
		return m.askEntries()
	case inBench:
		return nil
	}
	return tea.Batch(m.askDetail(), m.askCurve())
}

// freshCurve is how long the numbers of a live row stand before they are asked for anew.
const freshCurve = 5 * time.Second

// askCurve asks for the numbers of the chosen row, where it is opened and has some.
func (m *Model) askCurve() tea.Cmd {
	x := m.room.Chosen()
	if !m.room.Opened || x == nil || !x.Numbers || m.room.Folded() || m.view == nil {
		return nil
	}
	q := api.CurveQuery{Rule: x.Rule, Key: x.Key, At: m.held, From: m.view.From, Column: m.view.Column,
		Columns: watch.ColumnsOf(m.w).LifeWidth}
	asked := fmt.Sprint(q)
	if m.held == 0 {
		asked += fmt.Sprint(time.Now().Truncate(freshCurve))
	}
	if asked == m.curveAsked {
		return nil
	}
	m.curveAsked = asked
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
		defer cancel()
		k, err := api.AskCurves.Call(ctx, m.o.Lantern, q)
		if err != nil {
			return failedMsg{err}
		}
		return curveMsg{asked, k}
	}
}

// detailOf is what the detail that is shown was asked about, and when.
type detailOf struct {
	sign string
	at   time.Time
}

// askDetail asks for what is known of the chosen row.
func (m *Model) askDetail() tea.Cmd {
	x := m.room.Chosen()
	if x == nil {
		m.detail = nil
		return nil
	}
	q := api.DetailQuery{At: m.held, Rule: x.Rule, Key: x.Key, Alert: x.Alert, Origin: x.Origin, Lines: 300}
	asked := fmt.Sprint(q)
	sign := fmt.Sprint(q, x.Count, x.Severity, x.Cleared, x.Have, x.Taken, x.Untold)
	if m.detail != nil && sign == m.detailOf.sign && time.Since(m.detailOf.at) < restless {
		return nil // nothing of it has changed
	}
	m.asked, m.detailOf = asked, detailOf{sign, time.Now()}
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		d, err := api.AskDetail.Call(ctx, m.o.Lantern, q)
		if err != nil {
			return failedMsg{err}
		}
		return detailMsg{asked, d}
	}
}

// Update is part of tea.Model.
func (m *Model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.w, m.h = msg.Width, msg.Height
		return m, m.ask()
	case tea.BackgroundColorMsg:
		if m.o.Ground == "" && !msg.IsDark() {
			m.palette = paint.Light()
		}
	case tea.ColorProfileMsg:
		m.mono = msg.Profile <= colorprofile.ASCII
	case tickMsg: // the clock goes on, whatever comes
		next := tick(time.Until(time.Time(msg).Truncate(time.Second).Add(time.Second)))
		if m.mode == bringing && strings.HasPrefix(m.first.path, "syslog") &&
			time.Since(m.first.again) > time.Second {
			m.first.again = time.Now()
			return m, tea.Batch(m.ask(), m.bring(false), next) // who is sending now
		}
		if m.view == nil || m.failed != "" || time.Since(m.asking) > restless {
			return m, tea.Batch(m.ask(), m.listen(), next)
		}
		return m, tea.Batch(m.listen(), m.askBench(), next)
	case newsMsg:
		m.listening = false
		if msg.err != nil { // it is tried again at the next tick
			return m, nil
		}
		same := m.news == msg.news
		m.news = msg.news
		if same || m.held != 0 {
			return m, m.listen()
		}
		if m.busy {
			m.stale = true
			return m, m.listen()
		}
		return m, tea.Batch(m.ask(), m.listen())
	case viewMsg:
		m.slow = time.Since(m.asking)
		m.busy, m.failed = false, ""
		var again tea.Cmd
		if m.stale {
			m.stale = false
			again = m.ask()
		}
		m.view = msg.view
		m.room.Take(m.view)
		if msg.sources != nil {
			m.srcView = msg.sources
			m.sources.Take(m.srcView)
		}
		if msg.rules != nil {
			m.bench.TakeRules(msg.rules)
		}
		return m, tea.Batch(m.askChosen(), m.askBench(), m.listen(), again)
	case entriesMsg:
		if msg.asked == m.asked {
			m.sources.Keep(m.entries, msg.entries)
			m.entries = msg.entries
		}
	case detailMsg:
		if msg.asked == m.asked {
			m.detail = msg.detail
		}
	case curveMsg:
		if msg.asked == m.curveAsked {
			m.room.Curves = msg.curves
		}
	case failedMsg:
		m.busy = false
		m.failed = msg.err.Error()
	case doneMsg:
		m.note, m.noted, m.detailOf = msg.text, time.Now(), detailOf{}
		if msg.err != nil {
			m.note = msg.err.Error()
		}
		return m, m.ask()
	case broughtMsg:
		return m, m.brought(msg)
	case begunMsg:
		return m, m.begun(msg)
	case benchMsg:
		return m, m.benchAnswered(msg)
	case benchFileMsg:
		if msg.err != nil {
			m.say(msg.err.Error())
			return m, nil
		}
		return m, m.openedRule(msg)
	case markedMsg:
		return m, m.marked(msg)
	case savedMsg:
		return m, m.saved(msg)
	case putMsg:
		return m, m.putAnswered(msg)
	case actedMsg:
		return m, m.acted(msg)
	case hushesMsg:
		m.hushesAnswered(msg)
	case pastMsg:
		m.pastAnswered(msg)
	case editedMsg:
		if msg.err != nil {
			m.say(msg.err.Error())
			return m, nil
		}
		m.bench.Replace(msg.body, m.bench.Line())
		return m, m.askBench()
	case othersMsg:
		if msg.asked == m.benchAsked {
			m.bench.Others, m.bench.OthersAt = msg.words, msg.line
		}
	case proposalsMsg:
		if msg.asked == m.proposed {
			m.bench.Proposals = msg.list
		}
	case whyMsg:
		m.whyAnswered(msg)
	case fieldsMsg:
		return m, m.fieldsAnswered(msg)
	case tea.PasteMsg:
		if m.inRoom == inBench && m.mode == choosing && m.bench.Pane == bench.Text {
			m.bench.Paste(msg.Content)
			return m, m.askBench()
		}
		if m.mode == dividing && m.divide.Paste(msg.Content) {
			return m, m.askFields()
		}
		return m, m.paste(msg.Content)
	case tea.KeyPressMsg:
		return m, m.key(msg)
	case tea.MouseClickMsg:
		return m, m.click(msg.Mouse())
	case tea.MouseMotionMsg:
		if at := msg.Mouse(); m.mode == dividing && at.Button == tea.MouseLeft &&
			m.divide.Click(at.X, at.Y, 2, true) {
			return m, m.askFields()
		}
	case tea.MouseWheelMsg:
		by := 1
		if msg.Button == tea.MouseWheelUp {
			by = -1
		}
		if m.mode == dividing {
			return m, m.divideKey(tea.KeyPressMsg{Code: map[int]rune{1: tea.KeyDown, -1: tea.KeyUp}[by]})
		}
		if m.mode == whying {
			m.whyScroll(by)
		}
		if m.mode == choosing {
			m.move(by)
			return m, m.askChosen()
		}
	}
	return m, nil
}

// empty tells that nothing is watched yet.
func (m *Model) empty() bool { return m.view != nil && m.view.Sources == 0 }
