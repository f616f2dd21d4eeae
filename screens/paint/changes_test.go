package paint

import (
	"fmt"
	"regexp"
	"strconv"
	"testing"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// glass is a terminal as far as canvases need one: a grid of cells with their styles.
type glass struct {
	w     int
	cells []string
	style string
	x, y  int
}

var command = regexp.MustCompile(`^\x1b\[([0-9;]*)([Hm])`)

// show takes in what is written to it.
func (g *glass) show(t require.TestingT, out string) {
	for out != "" {
		if m := command.FindStringSubmatch(out); m != nil {
			out = out[len(m[0]):]
			if m[2] == "m" {
				g.style = m[1]
				continue
			}
			var row, col int
			_, err := fmt.Sscanf(m[1], "%d;%d", &row, &col)
			require.NoError(t, err)
			g.x, g.y = col-1, row-1
			continue
		}
		cluster, w := ansi.FirstGraphemeCluster(out, ansi.GraphemeWidth)
		require.NotEqual(t, "\x1b", cluster, "%q", out)
		out = out[len(cluster):]
		require.LessOrEqual(t, g.x+w, g.w, "it is written beyond the edge")
		for k := range w {
			g.cells[g.y*g.w+g.x+k] = ""
		}
		g.cells[g.y*g.w+g.x] = g.style + " " + cluster
		g.x += w
	}
}

// Whatever was shown before, what is written makes it the new canvas, in every cell; and of
// one that is the same nothing is written.
func TestChangesMakeTheCanvas(t *testing.T) {
	sgr := func(s Style) string { return s.SGR(colorprofile.TrueColor) }
	rapid.Check(t, func(t *rapid.T) {
		w, h := rapid.IntRange(1, 24).Draw(t, "w"), rapid.IntRange(1, 4).Draw(t, "h")
		g := &glass{w: w, cells: make([]string, w*h)}
		var was *Canvas
		for range rapid.IntRange(1, 4).Draw(t, "frames") {
			c := New(w, h, Hex("#101010"))
			for range rapid.IntRange(0, 6).Draw(t, "puts") {
				text := rapid.OneOf(rapid.String(), rapid.SampledFrom([]string{"plain", "▂▄█", "日本語", "e\u0301x", "👍🏽",
					"\u202e", "a\tb", "A\u00ad\u0903"})).Draw(t, "text")
				c.Cut(rapid.IntRange(-3, 26).Draw(t, "x"), rapid.IntRange(0, 4).Draw(t, "y"),
					rapid.IntRange(0, 12).Draw(t, "width"), Style{Bold: rapid.Bool().Draw(t, "bold"),
						Fg: rapid.SampledFrom([]Color{{}, Hex("#ff0000"), Hex("#00ff00")}).Draw(t, "colour")}, text)
			}
			g.show(t, string(c.AppendChanges(nil, was, sgr)))
			for i, k := range c.cells {
				want := ""
				if k.text != "" {
					m := command.FindStringSubmatch(sgr(k.style))
					want = m[1] + " " + k.text
				}
				require.Equal(t, want, g.cells[i], "cell %d", i)
			}
			require.Empty(t, c.AppendChanges(nil, c, sgr))
			was = c
		}
	})
}

// A text of our own marks is written as one that has to be looked through for clusters.
func TestNarrowTextsAreAsWideAsTheyAre(t *testing.T) {
	for r := rune(0x20); r < 0x3000; r++ {
		if n, ok := narrow(string(r)); ok {
			require.Equal(t, n, ansi.StringWidth(string(r)), strconv.QuoteRune(r))
			cluster, _ := ansi.FirstGraphemeCluster(string(r)+"x", ansi.GraphemeWidth)
			require.Equal(t, string(r), cluster)
		}
	}
}

// The colours are the nearest that the terminal has, and none where it has none.
func TestColoursOfPoorTerminals(t *testing.T) {
	s := Style{Fg: Hex("#ff0000"), Bg: Hex("#000000"), Bold: true}
	require.Equal(t, "\x1b[0;1;38;2;255;0;0;48;2;0;0;0m", s.SGR(colorprofile.TrueColor))
	require.Equal(t, "\x1b[0;1;38;5;196;48;5;16m", s.SGR(colorprofile.ANSI256))
	require.Equal(t, "\x1b[0;1;91;40m", s.SGR(colorprofile.ANSI))
	require.Equal(t, "\x1b[0;1m", s.SGR(colorprofile.ASCII))
	require.Empty(t, s.SGR(colorprofile.NoTTY))
}

// screenful is a screen that is full of texts, one of which changes.
func screenful(n int) *Canvas {
	c := New(160, 47, Hex("#101418"))
	for y := range c.H {
		for x := 0; x < 150; x += 10 {
			c.Cut(x, y, 9, Style{Fg: Hex([]string{"#ff8800", "#aaaaaa", "#00ff88"}[(x/10+y)%3]), Bold: y%5 == 0},
				fmt.Sprintf("abc ▂▄%d", x*y))
		}
	}
	c.Put(100, 40, Style{Fg: Hex("#ffffff")}, fmt.Sprintf("▂▄█ %04d", n))
	return c
}

func BenchmarkCut(b *testing.B) {
	for i := range b.N {
		screenful(i)
	}
}

func BenchmarkChanges(b *testing.B) {
	frames := []*Canvas{screenful(1), screenful(2)}
	known := map[Style]string{}
	sgr := func(s Style) string {
		if _, ok := known[s]; !ok {
			known[s] = s.SGR(colorprofile.TrueColor)
		}
		return known[s]
	}
	var buf []byte
	for i := range b.N {
		buf = frames[i%2].AppendChanges(buf[:0], frames[(i+1)%2], sgr)
	}
}
