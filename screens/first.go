package screens

import (
	"context"
	"fmt"
	"image/color"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"dimlantern/core/entry"
	"dimlantern/screens/paint"
	"dimlantern/service"
)

// firstStart is the screen of a start with nothing set: a path is typed, and
// what will be written is shown before it is.
type firstStart struct {
	path  string
	asked string
	found *service.Brought
	err   string
}

type broughtMsg struct {
	asked string
	found *service.Brought
	err   error
}

// bring asks what a path would become, or lets it be written.
func (m *Model) bring(write bool) tea.Cmd {
	q := service.BringQuery{Path: m.first.path, Write: write}
	m.first.asked = q.Path
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		b, err := m.o.Lantern.Bring(ctx, q)
		return broughtMsg{q.Path, b, err}
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
		m.mode = choosing
		m.note, m.noted = msg.found.Name+" is written; it begins with what is written from now on", time.Now()
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
	case "enter":
		if f.found != nil && f.found.Text != "" {
			return m.bring(true)
		}
		return m.bring(false)
	case "backspace":
		if r := []rune(f.path); len(r) > 0 {
			f.path = string(r[:len(r)-1])
		}
	case "ctrl+u":
		f.path = ""
	case "tab":
		f.path = complete(f.path)
	default:
		f.path += k.Text
	}
	return m.bring(false)
}

// drawFirst draws the screen of a first start.
func (m *Model) drawFirst(c *paint.Canvas, top, bottom int, p paint.Palette, base paint.Style) {
	dim := base.With(p.Dim)
	y := top + 1
	c.Put(1, y, base.With(p.Strong).Strong(), "Nothing is watched yet")
	y += 2
	if m.mode != bringing {
		lines := []string{
			"Press n and type the path of a log, such as /var/log/syslog: its first settings file is written for you.",
			"Or write one yourself, in " + m.settingsFolder() + ": whatever ends in .lantern there is taken up at once.",
			"To see what it can look like, leave with q and run: dimlantern demo",
		}
		for _, l := range lines {
			for _, part := range strings.Split(wrapText(l, m.w-3), "\n") {
				c.Put(1, y, base, part)
				y++
			}
		}
		return
	}
	c.Put(1, y, dim, "where")
	x := c.Put(9, y, base.With(p.Strong), m.first.path)
	c.Put(x, y, base.With(p.Severity[entry.Error]), "▏")
	y += 2
	if m.first.err != "" {
		c.Cut(9, y, m.w-10, base.With(p.Severity[entry.Warning]), m.first.err)
		return
	}
	f := m.first.found
	if f == nil {
		c.Cut(9, y, m.w-10, dim, "a path that begins with /, in which * stands for any part of a name and ** for any folders")
		return
	}
	if f.Words != "" {
		c.Cut(9, y, m.w-10, base, f.Words)
		y++
	}
	for _, x := range f.Files {
		if y >= bottom-9 {
			break
		}
		name := base
		if x.Words != "" {
			name = base.With(p.Blind)
		}
		at := c.Cut(9, y, 48, name, x.Path)
		if x.Words != "" {
			c.Cut(at+2, y, m.w-at-3, base.With(p.Severity[entry.Warning]), x.Words)
			if x.Mend != "" && y+1 < bottom {
				y++
				c.Cut(at+2, y, m.w-at-3, base.With(p.Over), "to mend it:  "+x.Mend)
			}
		} else {
			c.Cut(at+2, y, m.w-at-3, dim, fmt.Sprintf("%s, written %s ago", size(x.Size), ago(time.Since(x.Mod))))
		}
		y++
	}
	if f.Text == "" {
		return
	}
	y++
	c.Rule(1, y, 2, base.With(p.Rule), false)
	at := c.Put(4, y, base.With(p.Strong).Strong(), "this will be written")
	at = c.Cut(at+1, y, m.w-at-8, dim, f.Name)
	c.Rule(at+1, y, m.w-at-2, base.With(p.Rule), false)
	y += 2
	for _, l := range strings.Split(strings.TrimRight(f.Text, "\n"), "\n") {
		if y < bottom {
			c.Cut(9, y, m.w-10, base, l)
			y++
		}
	}
	if y+1 < bottom {
		c.Cut(9, y+1, m.w-10, dim, "what is in the log already raises nothing; dimlantern replay can try rules on it all the same")
	}
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
	return color.RGBA{c.R, c.G, c.B, 255}
}
