package trial

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const saidRules = `layout line {
  pattern /^(?<at>\S+) (?<host>\S+) (?<text>.*)$/
  time    at like "2026-11-24T05:32:28Z"
}
source joined {
  files  "/v/a.log"
  layout line
  entry  starts /^\d{4}-/
}
source plain {
  files  "/v/b.log"
  layout line
}
rule low {
  problem /pump (?<pump>\d+) low/
  per     pump
  raise   warning at 2 in 5m
  clear   after 10m quiet
}
`

// logOf writes lines of all lengths, of which some belong to the entry before.
func logOf(t *rapid.T) []byte {
	var b bytes.Buffer
	at := time.Date(2026, 11, 24, 5, 0, 0, 0, time.UTC)
	for range rapid.IntRange(0, 60).Draw(t, "lines") {
		at = at.Add(time.Duration(rapid.IntRange(0, 200).Draw(t, "s")) * time.Second)
		word := rapid.SampledFrom([]string{"low", "low", "fine"}).Draw(t, "word")
		fmt.Fprintf(&b, "%s a pump %d %s %s\n", at.Format(time.RFC3339), rapid.IntRange(1, 3).Draw(t, "pump"), word,
			strings.Repeat("x", rapid.SampledFrom([]int{0, 0, 10, 5000, 60_000}).Draw(t, "long")))
		for range rapid.SampledFrom([]int{0, 0, 1, 3}).Draw(t, "more") {
			b.WriteString("  at the strainer\n")
		}
	}
	return b.Bytes()
}

// Packed or not, a log has the same entries, is as long, and a rule does the same over it; and
// its newest part begins with a line.
func TestPackedIsPlain(t *testing.T) {
	s, ds := lang.Check([]*lang.File{lang.Parse("x", []byte(saidRules))}, lang.Env{})
	require.False(t, lang.Errors(ds), "%v", ds)
	rapid.Check(t, func(t *rapid.T) {
		data := logOf(t)
		most := rapid.SampledFrom([]int64{1, 1000, 200_000, 1 << 30}).Draw(t, "most")
		p, cut, err := Pack(iotest.OneByteReader(bytes.NewReader(data)), 1<<30, func(int) error { return nil })
		require.NoError(t, err)
		require.False(t, cut)
		src := s.Source(rapid.SampledFrom([]string{"joined", "plain"}).Draw(t, "source"))
		in := Input{Source: src, Path: "/v/a.log", Host: "a", Near: entry.None}
		plain, packed := &Said{in}, &Said{in}
		plain.Data, packed.Text = data, p
		if rapid.Bool().Draw(t, "sections") {
			at := rapid.IntRange(0, len(data)).Draw(t, "at")
			behind := append([]byte("none of it"), data[at:]...)
			packed.Text = Sections{{bytes.NewReader(data), 0, int64(at)}, {bytes.NewReader(behind), 10,
				int64(len(data) - at)}}
		}
		require.Equal(t, plain.Size(), packed.Size())
		got, err := io.ReadAll(packed.Text.Reader())
		require.NoError(t, err)
		require.True(t, bytes.Equal(data, got))

		list := func(d *Said) (out []string) {
			d.Entries(match.NewPlan(s, src, nil, time.UTC), func(e []byte) { out = append(out, string(e)) })
			return out
		}
		require.Equal(t, list(plain), list(packed))
		if len(data) > 0 {
			plain.Know(s, time.UTC)
			packed.Know(s, time.UTC)
			try := func(d *Said) *Tried {
				x, err := TryRule(s, s.Rule("low"), []*Said{d}, Options{Cores: rapid.IntRange(1, 2).Draw(t, "cores")})
				require.NoError(t, err)
				return x
			}
			require.Equal(t, try(plain), try(packed))
		}
		newest := packed.Newest(most)
		got, err = io.ReadAll(newest.Text.Reader())
		require.NoError(t, err)
		require.Equal(t, newest.Size(), int64(len(got)))
		require.True(t, bytes.HasSuffix(data, got))
		if n := len(data) - len(got); n > 0 && len(got) > 0 {
			require.Equal(t, byte('\n'), data[n-1], "it begins with a line")
		}
		tail, cut, err := Pack(bytes.NewReader(data), most, func(int) error { return nil })
		require.NoError(t, err)
		got, err = io.ReadAll(tail.Reader())
		require.NoError(t, err)
		require.True(t, bytes.HasSuffix(data, got))
		require.Equal(t, cut, len(got) < len(data))
		require.Less(t, int64(len(got)), most+packedBlock)
	})
}

// What cannot be read, or is not wanted any more, ends it.
func TestPackEnds(t *testing.T) {
	broken := errors.New("the disk is gone")
	_, _, err := Pack(iotest.ErrReader(broken), 100, func(int) error { return nil })
	require.ErrorIs(t, err, broken)
	_, _, err = Pack(strings.NewReader("a\n"), 100, func(int) error { return broken })
	require.ErrorIs(t, err, broken)
}
