package sources

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
)

// bring is the page on which a log is brought in: a path is typed, where to begin and the
// layout are chosen, and what will be written is shown before it is.
type bring struct {
	stage  *room.Stage
	path   textinput.Model
	name   textinput.Model // of the source; empty is one by the path
	field  bringField
	begin  int // in begins
	layout string
	asked  string
	listed []string            // with what the path can go on, after tab
	done   func(source string) // what is done when a source was added
	found  *api.Brought
	err    error
	here   *here // what there is, while no path is typed
}

// bringField is what the keys choose on the page.
type bringField int

const (
	bringPath bringField = iota
	bringName
	bringBegin
	bringLayout
	bringFields // how many there are
)

// begins are where reading can begin, as the screen and as a rule file has it.
var begins = [][2]string{{"now", "now"}, {"at the start", "oldest"}, {"24h ago", "24h ago"}, {"7d ago", "7d ago"}}

// openBring lays the page over what is shown, for a path that may be known already.
func openBring(s *room.Stage, path string, done func(source string)) tea.Cmd {
	b := &bring{stage: s, path: room.NewInput(""), name: room.NewInput(""), done: done, here: newHere(s)}
	s.Lay(b)
	if path != "" {
		b.path.SetValue(path)
		b.path.CursorEnd()
		return b.ask(false)
	}
	return b.here.ask()
}

// looks tells whether the page shows what there is on the machine.
func (b *bring) looks() bool { return b.field == bringPath && b.path.Value() == "" && b.here != nil }

// ask asks what the path would become, or has it written.
func (b *bring) ask(write bool) tea.Cmd {
	q := api.BringQuery{Path: b.path.Value(), Begin: begins[b.begin][1], Layout: b.layout, Write: write,
		Name: strings.TrimSpace(b.name.Value())}
	asked := fmt.Sprint(q)
	b.asked = asked
	return room.Ask(b.stage, api.DoBring, q, 6*room.Patience, func(found *api.Brought, err error) tea.Cmd {
		if asked != b.asked || !b.stage.Lies(b) {
			return nil
		}
		b.found, b.err = found, err
		if err == nil && found.Done {
			b.stage.Say("the source " + found.Source + " was added: " + filepath.Base(found.Name) +
				" is written, and taken up")
			b.done(found.Source)
			return b.stage.Go(room.Sources)
		}
		return nil
	})
}

// Update is part of room.Room.
func (b *bring) Update(msg tea.Msg) tea.Cmd {
	switch msg.(type) {
	case room.Tick: // who is sending now
		if strings.HasPrefix(b.path.Value(), "syslog") {
			return b.ask(false)
		}
	case tea.KeyPressMsg, tea.PasteMsg:
		if b.field == bringName {
			was := b.name.Value()
			if b.name, _ = b.name.Update(msg); b.name.Value() != was {
				return b.ask(false)
			}
			return nil
		}
		if b.field != bringPath {
			return nil
		}
		was := b.path.Value()
		b.path, _ = b.path.Update(msg)
		if b.path.Value() != was {
			b.layout, b.listed = "", nil
			return b.ask(false)
		}
	}
	return nil
}

// Keys is part of room.Room.
func (b *bring) Keys() room.Keys {
	if b.looks() {
		return b.lookingKeys()
	}
	k := room.Keys{Where: "typing a path", Alone: true, List: []room.Key{
		room.Now("down", func() { b.field = (b.field + 1) % bringFields }).Marked("↓").Said("next", "next").
			Told("the next of path, name, begin and layout"),
		room.Now("shift+tab up", func() { b.field = (b.field + bringFields - 1) % bringFields }),
		room.Do("tab", b.tab).Told("of a path: as far as the files agree that are there, then which there are; else " +
			"the next field"),
	}}
	complete := room.Do("right", func() tea.Cmd { return b.choose(1) }).Said("complete", "complete").
		Told("of a path: as far as the files that are there agree")
	switch {
	case b.field == bringName:
		k.Where, complete = "typing a name", room.Key{}
	case b.field != bringPath:
		k.Where = "choosing"
		complete = room.On("left right", func(name string) tea.Cmd {
			return b.choose(map[string]int{"left": -1, "right": 1}[name])
		}).Said("choose", "choose").Told("of begin and layout: another one")
	case b.path.Position() < len([]rune(b.path.Value())): // it moves the cursor
		complete = room.Key{}
	}
	k.List = append(k.List, complete,
		room.Do("enter ctrl+s", func() tea.Cmd { return b.ask(b.found != nil && b.found.Text != "") }).
			Marked("enter").Said("write it and begin", "write it").Told("writes the settings that are shown"),
		room.Do("esc", b.stage.Back).Said("leave it", "leave").Told("nothing is written"))
	return k
}

// lookingKeys are the keys while what there is on the machine is shown: letters begin a path.
func (b *bring) lookingKeys() room.Keys {
	list := []room.Key{
		room.Move(10, func(n int) tea.Cmd { b.here.move(n); return nil }).Said("choose", "choose").
			Told("a kit, or a log that nothing reads"),
		room.Now("space", b.here.toggle).Said("take it or not", "or not").Told("of a kit: whether it is taken"),
	}
	if path := b.here.log(); path != "" {
		list = append(list, room.Do("enter", func() tea.Cmd {
			b.path.SetValue(path)
			b.path.CursorEnd()
			return b.ask(false)
		}).Said("this log by itself", "this log").Told("shows what will be written"))
	} else if n := len(b.here.wanted()); n > 0 {
		list = append(list, room.Do("enter", b.here.take).Said("use "+room.Count(n, "kit"), "use kits").
			Told("shows what will be written, and what it does"))
	}
	list = append(list, room.Do("esc", b.stage.Back).Said("leave it", "leave").Told("nothing is written"))
	where := "typing a path"
	if b.here.row >= 0 {
		where = "what there is here"
	}
	return room.Keys{Where: where, Alone: true, List: list}
}

// tab goes on with a path as far as the files that are there agree, and then lists them;
// elsewhere it goes to the next field.
func (b *bring) tab() tea.Cmd {
	path := b.path.Value()
	if b.field != bringPath || !strings.HasPrefix(path, "/") && !strings.HasPrefix(path, "~/") {
		b.field = (b.field + 1) % bringFields
		return nil
	}
	if more := complete(path); more != path {
		b.path.SetValue(more)
		b.path.CursorEnd()
		return b.ask(false)
	}
	if b.listed = candidates(path); len(b.listed) < 2 {
		b.listed = nil
		b.field = (b.field + 1) % bringFields
	}
	return nil
}

// candidates are the names with which a path can go on.
func candidates(path string) []string {
	dir, part := filepath.Split(path)
	if strings.HasPrefix(dir, "~/") {
		if home, err := os.UserHomeDir(); err == nil {
			dir = filepath.Join(home, dir[2:])
		}
	}
	list, _ := os.ReadDir(dir)
	var out []string
	for _, x := range list {
		if strings.HasPrefix(x.Name(), part) && (part != "" || !strings.HasPrefix(x.Name(), ".")) {
			name := x.Name()
			if x.IsDir() {
				name += "/"
			}
			out = append(out, name)
		}
	}
	return out
}

// choose takes the next or the one before of what the field offers; a path goes on as far as
// the files that are there agree.
func (b *bring) choose(by int) tea.Cmd {
	switch {
	case b.field == bringPath:
		path := b.path.Value()
		if b.found != nil && len(b.found.Offers) > 0 {
			path = b.found.Offers[0].Type
		} else {
			path = complete(path)
		}
		b.path.SetValue(path)
		b.path.CursorEnd()
	case b.field == bringBegin:
		b.begin = (b.begin + by + len(begins)) % len(begins)
	case b.found != nil && len(b.found.Layouts) > 0:
		at := 0
		for i, l := range b.found.Layouts {
			if l.Name == b.found.Layout {
				at = i
			}
		}
		b.layout = b.found.Layouts[(at+by+len(b.found.Layouts))%len(b.found.Layouts)].Name
	}
	return b.ask(false)
}

// complete goes on with a path as far as the files that are there agree.
func complete(path string) string {
	dir, part := filepath.Split(path)
	if dir == "" || strings.ContainsAny(dir, "*?[{") {
		return path
	}
	list, err := os.ReadDir(dir)
	if err != nil {
		return path
	}
	common, n := "", 0
	folder := false
	for _, e := range list {
		name := e.Name()
		if !strings.HasPrefix(name, part) {
			continue
		}
		if n++; n == 1 {
			common, folder = name, e.IsDir()
			continue
		}
		for !strings.HasPrefix(name, common) {
			common = common[:len(common)-1]
		}
	}
	switch {
	case n == 0:
		return path
	case n == 1 && folder:
		common += "/"
	}
	return dir + common
}

// Draw is part of room.Room.
func (b *bring) Draw(c *paint.Canvas, top, bottom int) {
	p := b.stage.Palette
	base := paint.Style{Fg: p.Text}
	y := top + 1
	title := "Nothing is watched yet"
	if !b.stage.Empty() {
		title = "bring in another log"
	}
	at := c.Put(1, y, base.With(p.Strong).Strong(), title)
	c.Cut(at+3, y, c.W-at-4, base.With(p.Dim), "nothing is taken, and nothing is written, until you say so")
	y += 2
	b.label(c, y, bringPath, "where")
	room.DrawInput(c, 10, y, c.W-11, &b.path, b.field == bringPath, p)
	y++
	switch {
	case b.err != nil:
		c.Cut(10, y, c.W-11, base.With(p.Severity[entry.Warning]), b.err.Error())
	case b.looks():
		y = b.drawHints(c, y, base)
		b.here.draw(c, y+1, bottom)
	case b.found == nil || b.path.Value() == "":
		b.drawHints(c, y, base)
	default:
		b.drawFound(c, y, bottom, base)
	}
}

func (b *bring) label(c *paint.Canvas, y int, field bringField, text string) {
	base, p := paint.Style{Fg: b.stage.Palette.Text}, b.stage.Palette
	style := base.With(p.Dim)
	if b.field == field {
		style = base.With(p.Strong).Strong()
	}
	c.Put(1, y, style, text)
}

// drawHints says what can be typed, and returns the row behind it.
func (b *bring) drawHints(c *paint.Canvas, y int, base paint.Style) int {
	dim := base.With(b.stage.Palette.Dim)
	for _, words := range []string{
		"a path that begins with /, in which * stands for any part of a name and ** for any folders",
		"or: channel NAME · journal · syslog udp 514 · command /path"} {
		c.Cut(10, y, c.W-11, dim, words)
		y++
	}
	return y
}

// drawFound draws what the path is, and what will be written.
func (b *bring) drawFound(c *paint.Canvas, y, bottom int, base paint.Style) {
	p, f := b.stage.Palette, b.found
	dim := base.With(p.Dim)
	switch {
	case f.Words != "":
		c.Cut(10, y, c.W-11, base, f.Words)
	case len(f.Offers) > 0:
		y--
	default:
		words := room.Count(f.Fit, "file") + " " + english.PluralWord(f.Fit, "fits", "fit")
		if f.Copies > 0 {
			words += fmt.Sprintf(", %d rotated copies of them", f.Copies)
		}
		c.Cut(10, y, c.W-11, dim, words)
	}
	y++
	if len(b.listed) > 0 {
		for _, line := range room.Wrap(strings.Join(b.listed, "  "), c.W-14)[:] {
			if y >= bottom-12 {
				break
			}
			c.Cut(12, y, c.W-13, dim, line)
			y++
		}
	}
	most := max((bottom-y-15)/2, 2)
	if len(f.Formats) > 0 {
		most = min(most, 4)
	}
	for _, x := range f.Files[:min(len(f.Files), most)] {
		y = b.drawFile(c, y, x, base)
	}
	limit := bottom - 1
	if f.Text != "" {
		limit = max(bottom-15, y+3)
	}
	for _, o := range f.Offers {
		if y >= limit {
			break
		}
		y = b.drawOffer(c, y, limit, o, base)
	}
	if f.Text == "" {
		return
	}
	y++
	if strings.HasPrefix(b.path.Value(), "syslog") {
		y -= 2 // nothing was there before it comes
	} else {
		b.drawName(c, y, base)
		y += 2
		b.drawBegin(c, y, base)
	}
	y = b.drawLayouts(c, y+2, base)
	y = b.drawSamples(c, y, bottom, base) + 1
	drawText(c, y, bottom, f.Name, f.Text, p)
}

// drawText draws a text that will be written, under the name of its file, and returns the row
// behind it.
func drawText(c *paint.Canvas, y, bottom int, name, text string, p paint.Palette) int {
	if y < bottom {
		room.DrawHead(c, y, "this will be written", name, p)
	}
	y++
	for l := range strings.Lines(strings.TrimRight(text, "\n")) {
		if y < bottom {
			c.Cut(10, y, c.W-11, paint.Style{Fg: p.Text}, strings.TrimSuffix(l, "\n"))
			y++
		}
	}
	return y
}

// drawChoices draws words of which one is chosen, and returns the column behind them.
func drawChoices(c *paint.Canvas, x, y, end int, words []string, chosen int, p paint.Palette) int {
	base := paint.Style{Fg: p.Text}
	for i, w := range words {
		style, text := base.With(p.Dim), " "+w+" "
		if i == chosen {
			style, text = base.With(p.Strong).Strong(), "‹"+w+"›"
		}
		if x+ansi.StringWidth(text) < end {
			x = c.Put(x, y, style, text) + 1
		}
	}
	return x
}

// drawName draws how the source will be called.
func (b *bring) drawName(c *paint.Canvas, y int, base paint.Style) {
	b.label(c, y, bringName, "name")
	if b.field == bringName || b.name.Value() != "" {
		room.DrawInput(c, 10, y, c.W-11, &b.name, b.field == bringName, b.stage.Palette)
	} else {
		c.Cut(10, y, c.W-11, base, b.found.Source)
	}
}

// drawBegin draws where reading can begin.
func (b *bring) drawBegin(c *paint.Canvas, y int, base paint.Style) {
	b.label(c, y, bringBegin, "begin")
	var words []string
	for _, w := range begins {
		words = append(words, w[0])
	}
	x := drawChoices(c, 10, y, c.W, words, b.begin, b.stage.Palette)
	if b.begin == 0 {
		c.Cut(x+2, y, c.W-x-3, base.With(b.stage.Palette.Dim), "what is already there raises nothing; replay can try "+
			"rules on it all the same")
	}
}

// mostFormats is how many formats of files are listed.
const mostFormats = 6

// drawLayouts draws the layouts that can be chosen, and how much the chosen one fits.
func (b *bring) drawLayouts(c *paint.Canvas, y int, base paint.Style) int {
	f := b.found
	b.label(c, y, bringLayout, "layout")
	var words []string
	chosen := -1
	for i, l := range f.Layouts {
		words = append(words, l.Name)
		if l.Name == f.Layout {
			chosen = i
		}
	}
	drawChoices(c, 10, y, c.W, words, chosen, b.stage.Palette)
	y++
	dim := base.With(b.stage.Palette.Dim)
	if chosen >= 0 && f.Looked > 0 {
		l := f.Layouts[chosen]
		c.Cut(11, y, c.W-12, dim, fmt.Sprintf("fits %s of %s, %s", humanize.Comma(int64(l.Fits)),
			room.Count(l.Of, "entry"), l.Times))
		y++
	}
	if len(f.Formats) > 0 {
		c.Cut(11, y, c.W-12, base, "the files are in "+room.Count(len(f.Formats), "format")+
			": each gets a source of its own")
		y++
	}
	for i, x := range f.Formats {
		if i == mostFormats && len(f.Formats) > mostFormats+1 {
			c.Cut(12, y, c.W-13, dim, fmt.Sprintf("and %d more", len(f.Formats)-i))
			y++
			break
		}
		at := c.Cut(12, y, c.W*3/5, base, x.What)
		var names []string
		for _, path := range x.Files {
			names = append(names, filepath.Base(path))
		}
		c.Cut(at+2, y, c.W-at-3, dim, strings.Join(names, "  "))
		y++
	}
	return y
}

// drawSamples draws usual and odd entries, divided where they fit.
func (b *bring) drawSamples(c *paint.Canvas, y, bottom int, base paint.Style) int {
	left := bottom - y - 8
	for i, list := range [][]api.EntryView{b.found.Usual, b.found.Odd} {
		for k, e := range list {
			if left--; left < 0 {
				return y
			}
			if k == 0 {
				c.Put(4, y, base.With(b.stage.Palette.Dim), []string{"usual", "odd"}[i])
			}
			b.drawSample(c, y, e, base)
			y++
		}
	}
	return y
}

// drawOffer draws what can be brought in that is no file, and what it says lately.
func (b *bring) drawOffer(c *paint.Canvas, y, bottom int, o api.Offer, base paint.Style) int {
	p := b.stage.Palette
	at := c.Cut(12, y, max(c.W*2/3-14, 20), base, o.Type)
	words := base.With(p.Dim)
	if o.Bad {
		words = base.With(p.Severity[entry.Warning])
	}
	c.Cut(at+2, y, c.W-at-3, words, o.Words)
	y++
	if o.Mend != "" && y < bottom {
		c.Cut(16, y, c.W-17, base.With(p.Over), "to mend it:  "+o.Mend)
		y++
	}
	for _, d := range o.Detail {
		if y >= bottom {
			break
		}
		c.Cut(16, y, c.W-17, base.With(p.Dim), d)
		y++
	}
	return y
}

func (b *bring) drawFile(c *paint.Canvas, y int, x api.BroughtFile, base paint.Style) int {
	p := b.stage.Palette
	name := base
	if x.Words != "" {
		name = base.With(p.Blind)
	}
	at := c.Cut(12, y, max(c.W/2-14, 20), name, x.Path)
	if x.Words == "" {
		c.Cut(at+2, y, c.W-at-3, base.With(p.Dim), humanize.Bytes(uint64(x.Size))+", written "+
			entry.RoughSpan(time.Since(x.Mod).Truncate(time.Second))+" ago")
		return y + 1
	}
	c.Cut(at+2, y, c.W-at-3, base.With(p.Severity[entry.Warning]), x.Words)
	if x.Mend != "" {
		y++
		c.Cut(at+2, y, c.W-at-3, base.With(p.Over), "to mend it:  "+x.Mend)
	}
	return y + 1
}

// drawSample draws an entry of the log that is brought in.
func (b *bring) drawSample(c *paint.Canvas, y int, e api.EntryView, base paint.Style) {
	dim := base.With(b.stage.Palette.Dim)
	x := 12
	if e.At != entry.None {
		x = c.Put(x, y, dim, time.Unix(0, int64(e.At)).Format("2006-01-02 15:04:05")) + 2
		for _, f := range e.Fields {
			if f.Name != "text" && f.Name != "at" && len(f.Value) < 20 && x < c.W/2 {
				x = c.Put(x, y, dim, f.Value) + 2
			}
		}
	}
	style := base
	if !e.Fits {
		style = base.With(b.stage.Palette.Severity[entry.Warning])
	}
	c.Cut(x, y, c.W-x-1, style, e.Text)
}
