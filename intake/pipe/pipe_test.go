package pipe

import (
	"context"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/lang"
	"dimlantern/core/match"
)

func texts(f *Feed) []string {
	var out []string
	for _, m := range f.Take(100_000) {
		out = append(out, string(m.Text))
	}
	return out
}

func ended(t require.TestingT, f *Feed) {
	ctx, cancel := context.WithCancel(context.Background())
	go f.Run(ctx)
	require.Eventually(t, func() bool { return f.State().Note != "" }, 10*time.Second, time.Millisecond)
	cancel()
}

// However a stream is cut, its lines are joined to the same entries, and none is
// lost.
func TestLinesAreJoined(t *testing.T) {
	spec := &lang.EntrySpec{Starts: &lang.Pattern{Source: `^\d`}, Most: 4, Closed: time.Minute}
	rapid.Check(t, func(t *rapid.T) {
		lines := rapid.SliceOfN(rapid.SampledFrom([]string{"1 begins", "2 begins", "  at a", "\tat b", "x"}), 0,
			30).Draw(t, "lines")
		joined := rapid.Bool().Draw(t, "joined")
		var want []string
		count := 0
		for _, l := range lines {
			if joined && count > 0 && count < 4 && l[0] != '1' && l[0] != '2' {
				want[len(want)-1] += "\n" + l
				count++
			} else {
				want = append(want, l)
				count = 1
			}
		}
		r, w := io.Pipe()
		f := New(r)
		if joined {
			f.Join(spec)
		}
		text := strings.Join(lines, "\n")
		go func() {
			for text != "" {
				n := min(len(text), 3)
				io.WriteString(w, text[:n])
				text = text[n:]
			}
			w.Close()
		}()
		ended(t, f)
		require.Equal(t, want, texts(f))
	})
}

// The last entry does not wait for ever, a line over the limit is cut, and without
// anything piped in that is said.
func TestPiping(t *testing.T) {
	r, w := io.Pipe()
	f := New(r)
	f.Join(&lang.EntrySpec{Starts: &lang.Pattern{Source: `^\d`}, Most: 4,
		Closed: 10 * time.Millisecond})
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go f.Run(ctx)
	io.WriteString(w, "1 begins\n  and goes on\n")
	var got []string
	require.Eventually(t, func() bool { got = append(got, texts(f)...); return len(got) == 1 }, 5*time.Second,
		time.Millisecond)
	assert.Equal(t, "1 begins\n  and goes on", got[0])
	go func() {
		io.WriteString(w, "2 "+strings.Repeat("x", 3<<20)+"\n3 after it\n")
		w.Close()
	}()
	require.Eventually(t, func() bool { got = append(got, texts(f)...); return len(got) == 3 }, 5*time.Second,
		time.Millisecond)
	assert.Len(t, got[1], match.MaxLine)
	assert.Equal(t, "3 after it", got[2])
	assert.Contains(t, New(nil).State().Words, "nothing is piped into it")
}
