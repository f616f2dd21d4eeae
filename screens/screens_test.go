package screens

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/origin"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// fake is a service of which only what a test wants is there: one open alert, a rule on the
// bench, and whatever was done.
type fake struct {
	*api.Desk
	mu    sync.Mutex
	news  chan struct{}
	seq   int64
	count int
	asked map[string]int
	tried []string // texts that were tried
	acts  []api.ActQuery
	slow  chan struct{} // a trial waits for it, where it is not nil
}

const fakeRule = "rule pump-low {\n  on      harbour\n  problem \"low\"\n  raise   warning\n  clear   after 1h " +
	"quiet\n}\n"

func newFake() *fake {
	f := &fake{Desk: api.NewDesk(), news: make(chan struct{}), seq: 1, count: 3, asked: map[string]int{}}
	note := func(what string) { f.mu.Lock(); f.asked[what]++; f.mu.Unlock() }
	api.AskView.Answer(f.Desk, func(_ context.Context, q api.ViewQuery) (*api.View, error) {
		note("view")
		now := entry.Of(time.Now())
		f.mu.Lock()
		defer f.mu.Unlock()
		v := &api.View{Now: now, At: now, Live: q.At == 0, Column: q.Column,
			From: now.Add(-time.Duration(q.Columns) * q.Column), Until: now,
			Tide: make([]int64, q.Columns), Rules: 1, Sources: 1, Origins: 1}
		if q.At != 0 {
			v.At = q.At
		}
		row := api.Row{Rule: "pump-low", Key: []string{"pump-7"}, Alert: "a1", Severity: entry.Warning,
			Raised:  now.Add(-time.Minute),
			Cleared: entry.None, Count: f.count, Note: "open 1m"}
		row.Life.Hits = make([]int, q.Columns)
		v.Open = []api.Row{row}
		return v, nil
	})
	api.AskNews.Answer(f.Desk, func(ctx context.Context, q api.NewsQuery) (*api.News, error) {
		note("news")
		for {
			f.mu.Lock()
			now, news := api.News{Seq: f.seq}, f.news
			f.mu.Unlock()
			if now.Seq != q.Seq {
				return &now, nil
			}
			select {
			case <-ctx.Done():
				return nil, ctx.Err()
			case <-news:
			}
		}
	})
	api.AskDetail.Answer(f.Desk, func(context.Context, api.DetailQuery) (*api.Detail, error) {
		note("detail")
		return &api.Detail{Advise: "Look at the strainer.", Clears: []string{"by hand"}}, nil
	})
	api.AskRules.Answer(f.Desk, func(context.Context, api.None) (*api.RulesView, error) {
		return &api.RulesView{Rules: []api.RuleCost{{Rule: "pump-low", File: "/s/app.lantern", Line: 1,
			Last: entry.None}}}, nil
	})
	api.OpenText.Answer(f.Desk, func(_ context.Context, q api.BenchFile) (*api.BenchFile, error) {
		return &api.BenchFile{File: q.File, Body: fakeRule}, nil
	})
	api.TryText.Answer(f.Desk, func(ctx context.Context, q api.BenchQuery) (*api.BenchView, error) {
		f.mu.Lock()
		f.tried = append(f.tried, q.Body)
		slow := f.slow
		f.mu.Unlock()
		if slow != nil {
			select {
			case <-slow:
			case <-ctx.Done():
				return nil, ctx.Err()
			}
		}
		return &api.BenchView{Rule: "pump-low", Words: []string{"A hit is an entry of harbour."},
			Tried: &api.BenchTried{Hits: 4242}}, nil
	})
	api.TryOthers.Answer(f.Desk, func(context.Context, api.BenchQuery) (*api.BenchOthers,
		error) {
		return &api.BenchOthers{}, nil
	})
	api.Propose.Answer(f.Desk, func(context.Context, api.BenchQuery) (*api.Proposals,
		error) {
		return &api.Proposals{}, nil
	})
	api.AskSources.Answer(f.Desk, func(_ context.Context, q api.ViewQuery) (*api.SourcesView, error) {
		return &api.SourcesView{Column: q.Column, Sources: []api.SourceView{{Name: "harbour", Where: "files /v/*.log",
			Origins: []api.OriginView{{Name: "host-a:/v/pump.log", Host: "host-a", Path: "/v/pump.log",
				State: origin.State{Condition: origin.Seen}}}}}}, nil
	})
	api.AskEntries.Answer(f.Desk, func(_ context.Context, q api.EntriesQuery) (*api.Entries, error) {
		return &api.Entries{Origin: q.Origin, Shown: 1, Looked: 1, Lines: []api.EntryView{{Raw: "pump 7 is low",
			Text: "pump 7 is low", Fits: true}}}, nil
	})
	api.AskWhy.Answer(f.Desk, func(context.Context, api.WhyQuery) (*api.Why, error) {
		return &api.Why{Title: "why it is so", Lines: []api.WhyLine{{Kind: api.WhyYes, Word: "problem",
			Text: strings.Repeat("it has the word low ", 20)}}}, nil
	})
	api.AskHushes.Answer(f.Desk, func(context.Context, api.None) (*api.HushList, error) {
		return &api.HushList{List: []api.HushView{{ID: "h1", What: "rule pump-low", By: "mira", When: "until 06:00",
			Hand: true, Holds: true, Keeps: []string{"pump-low pump-7"}}}}, nil
	})
	api.AskPast.Answer(f.Desk, func(context.Context, api.PastQuery) (*api.PastPuts, error) {
		return &api.PastPuts{List: []api.PastPut{{By: "mira", File: "/s/app.lantern", Did: "written",
			Now: fakeRule}}}, nil
	})
	api.DoPut.Answer(f.Desk, func(_ context.Context, q api.PutQuery) (*api.Put, error) {
		return &api.Put{Title: "putting it to work", Files: q.Files, Done: "it is at work",
			Lines: []api.PutLine{{Word: "rule", Text: "pump-low is changed"}}}, nil
	})
	api.DoAct.Answer(f.Desk, func(_ context.Context, q api.ActQuery) (*api.ActDone, error) {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.acts = append(f.acts, q)
		return &api.ActDone{Words: q.By + " has it now"}, nil
	})
	api.DoClear.Answer(f.Desk, func(_ context.Context, q api.ClearQuery) (*api.None, error) {
		return nil, &api.Problem{Code: api.Unknown, What: "no alert \"a1\" is open: it may be over already"}
	})
	return f
}

// changes lets something be new.
func (f *fake) changes(do func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	do()
	f.seq++
	close(f.news)
	f.news = make(chan struct{})
}

func (f *fake) times(what string) int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.asked[what]
}

// stage runs a model as a program does, without a terminal.
type stage struct {
	t    *testing.T
	m    *Model
	msgs chan tea.Msg
}

func onStage(t *testing.T, l api.Lantern, w, h int) *stage {
	s := &stage{t: t, m: newModel(Options{Lantern: l, Name: "harbour", User: "mira", Ground: "dark"}),
		msgs: make(chan tea.Msg, 100)}
	s.do(s.m.Init())
	s.take(tea.WindowSizeMsg{Width: w, Height: h})
	return s
}

// do runs a command beside, and takes what comes of it later.
func (s *stage) do(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	go func() {
		switch msg := cmd().(type) {
		case nil:
		case tea.BatchMsg:
			for _, c := range msg {
				s.do(c)
			}
		default:
			s.msgs <- msg
		}
	}()
}

func (s *stage) take(msg tea.Msg) {
	_, cmd := s.m.Update(msg)
	s.do(cmd)
}

func (s *stage) text() string { return ansi.Strip(s.m.View().Content) }

// see lets come what comes until a text stands on the screen.
func (s *stage) see(texts ...string) {
	s.t.Helper()
	for _, want := range texts {
		deadline := time.After(10 * time.Second)
		for !strings.Contains(s.text(), want) {
			select {
			case msg := <-s.msgs:
				s.take(msg)
			case <-deadline:
				require.Fail(s.t, "never on the screen: "+want, s.text())
			}
		}
	}
}

// settle lets come what has been asked for.
func (s *stage) settle(until func() bool) {
	s.t.Helper()
	deadline := time.After(10 * time.Second)
	for !until() {
		select {
		case msg := <-s.msgs:
			s.take(msg)
		case <-time.After(5 * time.Millisecond):
		case <-deadline:
			require.Fail(s.t, "it does not come to rest", s.text())
		}
	}
}

func (s *stage) press(keys ...string) {
	named := map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "end": tea.KeyEnd, "tab": tea.KeyTab,
		"up": tea.KeyUp, "down": tea.KeyDown, "left": tea.KeyLeft, "right": tea.KeyRight, "pgdown": tea.KeyPgDown}
	for _, k := range keys {
		msg := tea.KeyPressMsg{Code: []rune(k)[0], Text: k}
		if code, ok := named[k]; ok {
			msg = tea.KeyPressMsg{Code: code}
		} else if c, ok := strings.CutPrefix(k, "ctrl+"); ok {
			msg = tea.KeyPressMsg{Code: []rune(c)[0], Mod: tea.ModCtrl}
		} else if k == "space" {
			msg = tea.KeyPressMsg{Code: tea.KeySpace, Text: " "}
		}
		s.take(msg)
	}
}

// rest takes in what has come already.
func (s *stage) rest() {
	for {
		select {
		case msg := <-s.msgs:
			s.take(msg)
		default:
			return
		}
	}
}

// What is new is shown by itself, and nobody asks again and again for it.
func TestScreensShowWhatIsNew(t *testing.T) {
	f := newFake()
	s := onStage(t, f, 120, 40)
	s.see("pump-low", "pump-7", "Look at the strainer.")
	views, details := f.times("view"), f.times("detail")
	f.changes(func() {}) // something, but nothing of this row
	s.settle(func() bool { return f.times("view") > views })
	f.changes(func() { f.count = 1717 })
	s.see("1,717")
	s.settle(func() bool { return f.times("detail") > details })
	assert.Equal(t, details+1, f.times("detail"), "the detail of a row that is as it was is not asked for")
	assert.LessOrEqual(t, f.times("view"), views+3, "it is no other word for polling")
}

// What a person does is done in their name, and a problem is said as it came.
func TestScreensAct(t *testing.T) {
	f := newFake()
	s := onStage(t, f, 120, 40)
	s.see("pump-7")
	s.press("t")
	s.settle(func() bool { f.mu.Lock(); defer f.mu.Unlock(); return len(f.acts) == 1 || s.m.stage.Typed != nil })
	if s.m.stage.Typed != nil {
		s.press("enter")
	}
	s.settle(func() bool { f.mu.Lock(); defer f.mu.Unlock(); return len(f.acts) == 1 })
	assert.Equal(t, "mira", f.acts[0].By)
	assert.Equal(t, "a1", f.acts[0].Alert)
	s.see("mira has it now")
}

// A letter stands on the screen whatever is being tried, and of many texts only the newest is
// tried in the end.
func TestLettersNeverWaitForATrial(t *testing.T) {
	f := newFake()
	f.slow = make(chan struct{})
	s := onStage(t, f, 120, 40)
	s.see("pump-7")
	s.press("2")
	s.see("app:1")
	s.press("enter")
	s.see("rule pump-low {")
	s.settle(func() bool { f.mu.Lock(); defer f.mu.Unlock(); return len(f.tried) == 1 }) // which does not end
	s.press("end")
	began := time.Now()
	for i := range 50 {
		letter := string(rune('a' + i%26))
		s.press(letter)
		require.Contains(t, s.text(), letter)
	}
	f.mu.Lock()
	const pause = 40 * time.Millisecond // after which what was typed is tried
	assert.LessOrEqual(t, len(f.tried), 1+int(time.Since(began)/pause))
	f.slow = nil
	f.mu.Unlock()
	s.see("4,242")
	f.mu.Lock()
	defer f.mu.Unlock()
	assert.LessOrEqual(t, len(f.tried), 3, "the newest text alone")
	assert.Contains(t, f.tried[len(f.tried)-1], "vwx", fmt.Sprint(len(f.tried)))
}

// Whatever the size of the window, what is drawn fits into it.
func TestScreensFit(t *testing.T) {
	f := newFake()
	for _, size := range [][2]int{{160, 47}, {80, 24}, {60, 16}, {30, 8}, {1, 1}} {
		s := onStage(t, f, size[0], size[1])
		if size[0] >= leastW {
			s.see("pump-7")
		}
		lines := strings.Split(s.text(), "\n")
		assert.LessOrEqual(t, len(lines), size[1], "%v", size)
		for _, l := range lines {
			assert.LessOrEqual(t, ansi.StringWidth(l), size[0], "%v: %q", size, l)
		}
	}
}

// What a key line says stands in help, of every room and of every page over it, and leads back.
func TestHelpHasAllKeys(t *testing.T) {
	f := newFake()
	s := onStage(t, f, 160, 47)
	s.see("pump-7")
	for _, way := range [][]string{{"1", "choosing alerts"}, {"2", "app:1"},
		{"2", "app:1", "enter", "typing a rule", "esc", "choosing kinds"}, {"3", "pump.log"},
		{"3", "pump.log", "enter", "newest first, 1 of"}} {
		s.press("1")
		for i := 0; i < len(way); i += 2 {
			s.press(way[i])
			s.see(way[i+1])
		}
		on := s.m.current()
		keys := s.m.keys(on)
		s.press("?")
		page, ok := s.m.current().(*helpPage)
		require.True(t, ok, "%v", way)
		said := map[string]bool{}
		for _, l := range page.keyLines(paint.Style{}, paint.Dark()) {
			said[l.mark] = true
		}
		for _, k := range keys.List {
			if (k.Help().Desc != "" || k.Short != "") && k.Help().Key != "↑↓" {
				assert.True(t, said[k.Help().Key], "%v: %s", way, k.Help().Key)
			}
		}
		s.press("esc")
		assert.Equal(t, on, s.m.current())
		s.press("esc", "esc")
	}
}

// Whatever keys are pressed in whatever order, in a window of any size, what is drawn fits
// into it, and esc and 1 lead back to where it began.
func TestAnyKeys(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		f := newFake()
		s := onStage(t, f, rapid.IntRange(60, 170).Draw(rt, "w"), rapid.IntRange(16, 50).Draw(rt, "h"))
		s.see("pump-7")
		for range rapid.IntRange(0, 25).Draw(rt, "keys") {
			s.press(rapid.SampledFrom([]string{"1", "2", "3", "enter", "esc", "tab", "up", "down", "left", "right",
				"+", "-",
				"/", "?", "y", "t", "h", "H", "m", "c", "b", "n", "r", "l", "f", "o", "p", "x", "a", "k", "s", "u", "e",
				"pgdown", "[", "]", "space", "ctrl+p", "ctrl+s", "ctrl+t", "ctrl+f", "z"}).Draw(rt, "key"))
			s.rest()
			for _, l := range strings.Split(s.text(), "\n") {
				require.LessOrEqual(t, ansi.StringWidth(l), s.m.stage.W)
			}
		}
		s.settle(func() bool {
			s.press("esc", "1")
			return len(s.m.stage.Pages) == 0 && s.m.at == room.Watch && strings.Contains(s.text(), "pump-7")
		})
	})
}
