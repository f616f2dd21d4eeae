package screens

import (
	"context"
	"fmt"
	"image/color"
	"os"
	"os/exec"
	"strings"
	"time"

	"dimlantern/api"

	tea "charm.land/bubbletea/v2"

	"dimlantern/core/entry"
	"dimlantern/screens/paint"
)

// bringIn is the screen on which a log is brought in: a path is typed, where to
// begin and the layout are chosen, and what will be written is shown before it is.
type bringIn struct {
	path   string
	field  int // path, begin, layout
	begin  int
	layout string
	asked  string
	found  *api.Brought
	err    string
	again  time.Time // when it was last asked who is sending
}

// begins are where reading can begin, as the screen and as a rule file has it.
var begins = [][2]string{{"now", "now"}, {"at the start", "oldest"}, {"24h ago", "24h ago"}, {"7d ago", "7d ago"}}

type broughtMsg struct {
	asked string
	found *api.Brought
	err   error
}

// bring asks what a path would become, or lets it be written.
func (m *Model) bring(write bool) tea.Cmd {
	q := api.BringQuery{Path: m.first.path, Begin: begins[m.first.begin][1], Layout: m.first.layout, Write: write}
	asked := fmt.Sprint(q)
	m.first.asked = asked
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		b, err := api.DoBring.Call(ctx, m.o.Lantern, q)
		return broughtMsg{asked, b, err}
	}
}

func (m *Model) brought(msg broughtMsg) tea.Cmd {
	if msg.asked != m.first.asked {
		return nil
	}
	m.first.found, m.first.err = msg.found, ""
	if msg.err != nil {
		m.first.found, m.first.err = nil, msg.err.Error()
		return nil
	}
	if msg.found.Done {
		m.mode, m.inRoom = choosing, inSources
		m.first = bringIn{}
		m.note, m.noted = msg.found.Name+" is written, and taken up", time.Now()
		return m.ask()
	}
	return nil
}

func (m *Model) bringKey(k tea.KeyPressMsg) tea.Cmd {
	f := &m.first
	switch k.String() {
	case "esc":
		m.mode = choosing
		return nil
	case "enter", "ctrl+s":
		return m.bring(f.found != nil && f.found.Text != "")
	case "tab", "down":
		f.field = (f.field + 1) % 3
		return nil
	case "shift+tab", "up":
		f.field = (f.field + 2) % 3
		return nil
	case "left", "right":
		by := 1
		if k.String() == "left" {
			by = -1
		}
		f.choose(by)
		return m.bring(false)
	}
	if f.field != 0 {
		return nil
	}
	switch k.String() {
	case "backspace":
		if r := []rune(f.path); len(r) > 0 {
			f.path = string(r[:len(r)-1])
		}
	case "ctrl+u":
		f.path = ""
	default:
		f.path += k.Text
	}
	f.layout = ""
	return m.bring(false)
}

// choose takes the next or the one before of what the field offers; a path goes on
// as far as the files that are there agree.
func (f *bringIn) choose(by int) {
	switch {
	case f.field == 0 && by > 0 && f.found != nil && len(f.found.Offers) > 0:
		f.path = f.found.Offers[0].Type
	case f.field == 0 && by > 0:
		f.path = complete(f.path)
	case f.field == 1:
		f.begin = (f.begin + by + len(begins)) % len(begins)
	case f.field == 2 && f.found != nil && len(f.found.Layouts) > 0:
		at := 0
		for i, l := range f.found.Layouts {
			if l.Name == f.found.Layout {
				at = i
			}
		}
		f.layout = f.found.Layouts[(at+by+len(f.found.Layouts))%len(f.found.Layouts)].Name
	}
}

// openDemo shows the demo in this terminal until it is left.
func (m *Model) openDemo() tea.Cmd {
	self, err := os.Executable()
	if err != nil {
		m.note, m.noted = "the demo cannot be opened: "+err.Error(), time.Now()
		return nil
	}
	return tea.ExecProcess(exec.Command(self, "demo"), func(err error) tea.Msg {
		return doneMsg{err: err, text: "back from Gullhaven"}
	})
}

// drawFirst draws the screen of a first start.
func (m *Model) drawFirst(c *paint.Canvas, top, bottom int, p paint.Palette, base paint.Style) {
	dim := base.With(p.Dim)
	y := top + 1
	title := "Nothing is watched yet"
	if !m.empty() {
		title = "bring in another log"
	}
	at := c.Put(1, y, base.With(p.Strong).Strong(), title)
	if m.mode == bringing {
		c.Cut(at+3, y, m.w-at-4, dim, "nothing is taken, and nothing is written, until you say so")
	}
	y += 2
	if m.mode != bringing {
		lines := []string{
			"Press + and type the path of a log, such as /var/log/syslog: its first settings file is written for you.",
			"Or write one yourself, in " + m.settingsFolder() +
				": whatever ends in .lantern there is taken up at once.",
			"Press d to see what it can look like: Gullhaven, a made-up harbour, opens until you leave it.",
		}
		for _, l := range lines {
			for _, part := range strings.Split(wrapText(l, m.w-3), "\n") {
				c.Put(1, y, base, part)
				y++
			}
		}
		return
	}
	m.drawBring(c, y, bottom, p, base)
}

// drawBring draws the screen on which a log is brought in.
func (m *Model) drawBring(c *paint.Canvas, y, bottom int, p paint.Palette, base paint.Style) {
	f := &m.first
	dim, strong, warn := base.With(p.Dim), base.With(p.Strong), base.With(p.Severity[entry.Warning])
	label := func(y, field int, text string) {
		style := dim
		if f.field == field {
			style = strong.Strong()
		}
		c.Put(1, y, style, text)
	}
	label(y, 0, "where")
	x := c.Put(10, y, strong, f.path)
	if f.field == 0 {
		c.Put(x, y, base.With(p.Severity[entry.Error]), "▏")
	}
	y++
	b := f.found
	switch {
	case f.err != "":
		c.Cut(10, y, m.w-11, warn, f.err)
		return
	case b == nil || f.path == "":
		c.Cut(10, y, m.w-11, dim, "a path that begins with /, in which * stands for any part of a name and ** for "+
			"any folders")
		for i, w := range [][2]string{{"channel", "an event channel: those that there are are listed"},
			{"journal", "the system's journal"}, {"syslog udp 514", "a port to which others send"}} {
			if i == 0 {
				c.Put(10, y+1+i, dim, "or")
			}
			c.Cut(c.Put(13, y+1+i, base, w[0])+2, y+1+i, m.w-40, dim, w[1])
		}
		return
	case b.Words != "":
		c.Cut(10, y, m.w-11, base, b.Words)
	case len(b.Offers) > 0:
		y--
	default:
		words := fmt.Sprintf("%d files fit", len(b.Files))
		if len(b.Files) == 1 {
			words = "1 file fits"
		}
		if b.Copies > 0 {
			words += fmt.Sprintf(", %d rotated copies of them", b.Copies)
		}
		c.Cut(10, y, m.w-11, dim, words)
	}
	y++
	most := max((bottom-y-14)/2, 2)
	for i, x := range b.Files {
		if i >= most {
			break
		}
		y = m.drawFile(c, y, x, p, base)
	}
	limit := bottom - 1
	if b.Text != "" {
		limit = max(bottom-15, y+3)
	}
	for _, o := range b.Offers {
		if y >= limit {
			break
		}
		y = m.drawOffer(c, y, limit, o, p, base)
	}
	if b.Text == "" {
		return
	}
	y++
	if strings.HasPrefix(f.path, "syslog") {
		y -= 2 // nothing was there before it comes
	} else {
		m.drawBeginAt(c, y, label, p, base)
	}
	y += 2
	label(y, 2, "layout")
	x = 10
	for _, l := range b.Layouts {
		style := dim
		text := " " + l.Name + " "
		if l.Name == b.Layout {
			style = strong.Strong()
			text = "‹" + l.Name + "›"
		}
		if x+len([]rune(text)) < m.w-30 {
			x = c.Put(x, y, style, text) + 1
		}
		if l.Name == b.Layout && b.Looked > 0 {
			defer c.Cut(m.w-28, y, 27, dim, fmt.Sprintf("fits %d of %d lines", l.Fits, b.Looked))
		}
	}
	y++
	rest := bottom - y - 8
	for i, list := range [][]api.EntryView{b.Usual, b.Odd} {
		for k, e := range list {
			if rest <= 0 {
				break
			}
			rest--
			if k == 0 {
				c.Put(4, y, dim, []string{"usual", "odd"}[i])
			}
			m.drawSample(c, y, e, p, base)
			y++
		}
	}
	y++
	c.Rule(1, y, 2, base.With(p.Rule), false)
	at := c.Put(4, y, strong.Strong(), "this will be written")
	at = c.Cut(at+1, y, m.w-at-8, dim, b.Name)
	c.Rule(at+1, y, m.w-at-2, base.With(p.Rule), false)
	y++
	for _, l := range strings.Split(strings.TrimRight(b.Text, "\n"), "\n") {
		if y < bottom {
			c.Cut(10, y, m.w-11, base, l)
			y++
		}
	}
}

// drawBeginAt draws where reading can begin.
func (m *Model) drawBeginAt(c *paint.Canvas, y int, label func(y, field int, text string), p paint.Palette,
	base paint.Style) {
	f, dim, strong := &m.first, base.With(p.Dim), base.With(p.Strong)
	label(y, 1, "begin")
	x := 10
	for i, w := range begins {
		style := dim
		text := " " + w[0] + " "
		if i == f.begin {
			style = strong.Strong()
			text = "‹" + w[0] + "›"
		}
		x = c.Put(x, y, style, text) + 1
	}
	if f.begin == 0 {
		c.Cut(x+2, y, m.w-x-3, dim, "what is already there raises nothing; replay can try rules on it all the same")
	}
}

// drawOffer draws what can be brought in that is no file, and what it says lately.
func (m *Model) drawOffer(c *paint.Canvas, y, bottom int, o api.Offer, p paint.Palette, base paint.Style) int {
	at := c.Cut(12, y, max(m.w*2/3-14, 20), base, o.Type)
	words := base.With(p.Dim)
	if o.Bad {
		words = base.With(p.Severity[entry.Warning])
	}
	c.Cut(at+2, y, m.w-at-3, words, o.Words)
	y++
	if o.Mend != "" && y < bottom {
		c.Cut(16, y, m.w-17, base.With(p.Over), "to mend it:  "+o.Mend)
		y++
	}
	for _, d := range o.Detail {
		if y >= bottom {
			break
		}
		c.Cut(16, y, m.w-17, base.With(p.Dim), d)
		y++
	}
	return y
}

func (m *Model) drawFile(c *paint.Canvas, y int, x api.BroughtFile, p paint.Palette, base paint.Style) int {
	name := base
	if x.Words != "" {
		name = base.With(p.Blind)
	}
	at := c.Cut(12, y, max(m.w/2-14, 20), name, x.Path)
	if x.Words == "" {
		c.Cut(at+2, y, m.w-at-3, base.With(p.Dim),
			fmt.Sprintf("%s, written %s ago", size(x.Size), ago(time.Since(x.Mod))))
		return y + 1
	}
	c.Cut(at+2, y, m.w-at-3, base.With(p.Severity[entry.Warning]), x.Words)
	if x.Mend != "" {
		y++
		c.Cut(at+2, y, m.w-at-3, base.With(p.Over), "to mend it:  "+x.Mend)
	}
	return y + 1
}

// drawSample draws an entry of the log that is brought in, divided where it fits.
func (m *Model) drawSample(c *paint.Canvas, y int, e api.EntryView, p paint.Palette, base paint.Style) {
	x := 12
	if e.At != entry.None {
		x = c.Put(x, y, base.With(p.Dim), time.Unix(0, int64(e.At)).Format("2006-01-02 15:04:05")) + 2
		for _, f := range e.Fields {
			if f.Name != "text" && f.Name != "at" && len(f.Value) < 20 && x < m.w/2 {
				x = c.Put(x, y, base.With(p.Dim), f.Value) + 2
			}
		}
	}
	style := base
	if !e.Fits {
		style = base.With(p.Severity[entry.Warning])
	}
	c.Cut(x, y, m.w-x-1, style, e.Text)
}

func size(n int64) string {
	switch {
	case n < 1000:
		return fmt.Sprintf("%d bytes", n)
	case n < 1e6:
		return fmt.Sprintf("%.1f kB", float64(n)/1e3)
	case n < 1e9:
		return fmt.Sprintf("%.1f MB", float64(n)/1e6)
	}
	return fmt.Sprintf("%.1f GB", float64(n)/1e9)
}

func ago(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

func rgb(c paint.Color) color.Color {
	return color.RGBA{R: c.R, G: c.G, B: c.B, A: 255}
}
