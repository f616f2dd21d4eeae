package listen

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/lang"
	"dimlantern/intake/feed"
)

func frames(stream string) []string {
	var out []string
	r := NewFrames(strings.NewReader(stream))
	for {
		b, err := r.Next()
		if len(b) > 0 {
			out = append(out, string(b))
		}
		if err != nil {
			return out
		}
	}
}

// Both framings are told apart by themselves, also in one stream.
func TestFrames(t *testing.T) {
	for stream, want := range map[string]string{
		"<13>one\n<13>two\n":           "<13>one|<13>two",
		"7 <13>one7 <13>two":           "<13>one|<13>two",
		"7 <13>a\nb7 <13>two<13>c\n":   "<13>a\nb|<13>two|<13>c",
		"<13>one\x00<13>two\x00":       "<13>one|<13>two",
		"<13>without an end":           "<13>without an end",
		"2026 began well\n1 ":          "",
		"20 <13>cut off":               "",
		"0 <13>no length\n":            "0 <13>no length",
		"\n\n<13>one\r\n":              "<13>one",
		"12345678901 too long a one\n": "12345678901 too long a one",
	} {
		if strings.HasPrefix(stream, "2026") { // a text that begins with a number and a space is a length
			assert.Empty(t, frames(stream))
			continue
		}
		assert.Equal(t, want, strings.Join(frames(stream), "|"), "%q", stream)
	}
}

// However a stream is cut by the network, its messages are the same.
func TestFramesInPieces(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var stream strings.Builder
		var want []string
		for range rapid.IntRange(0, 20).Draw(t, "messages") {
			text := "<13>" + rapid.StringMatching(`[a-z ]{0,300}[a-z]`).Draw(t, "text")
			want = append(want, text)
			if rapid.Bool().Draw(t, "counted") {
				fmt.Fprintf(&stream, "%d %s", len(text), text)
			} else {
				stream.WriteString(text + "\n")
			}
		}
		a, b := net.Pipe()
		go func() {
			rest := stream.String()
			for rest != "" {
				n := min(len(rest), 1+len(rest)/7)
				a.Write([]byte(rest[:n]))
				rest = rest[n:]
			}
			a.Close()
		}()
		var got []string
		r := NewFrames(b)
		for {
			text, err := r.Next()
			if len(text) > 0 {
				got = append(got, string(text))
			}
			if err != nil {
				break
			}
		}
		require.Equal(t, want, got)
	})
}

// Of what waits nothing is lost but what is counted, each peer's order stays, and
// nobody waits behind another's flood.
func TestInTurn(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		l := New(lang.Listen{Proto: "udp"})
		sent, got := map[string]int{}, map[string]int{}
		for range rapid.IntRange(1, 25).Draw(t, "steps") {
			if rapid.Bool().Draw(t, "put") {
				peer := rapid.SampledFrom([]string{"a", "b", "c"}).Draw(t, "peer")
				for range rapid.SampledFrom([]int{1, 100, 30_000}).Draw(t, "how many") {
					before := len(l.find(peer).queue)
					l.put(feed.Message{Way: peer, Text: []byte(strconv.Itoa(sent[peer]))}, false)
					if len(l.find(peer).queue) > before {
						sent[peer]++
					}
				}
				continue
			}
			waiting := len(l.turn)
			out := l.Take(rapid.IntRange(1, 500).Draw(t, "most"))
			others := map[string]bool{}
			for i, m := range out {
				require.Equal(t, strconv.Itoa(got[m.Way]), string(m.Text), "the order of %s", m.Way)
				got[m.Way]++
				others[m.Way] = true
				if i >= waiting*atOnce {
					require.GreaterOrEqual(t, len(others), min(waiting, 1))
				}
			}
			if len(out) >= waiting*atOnce {
				require.Len(t, others, waiting, "each had its turn")
			}
		}
		for _, p := range l.State().Senders {
			require.EqualValues(t, sent[p.Name], p.Received-p.Dropped)
			require.Equal(t, sent[p.Name]-got[p.Name], len(l.find(p.Name).queue))
		}
	})
}

// A stream waits for room, and is let go of at the end.
func TestStreamWaits(t *testing.T) {
	l := New(lang.Listen{Proto: "tcp", Address: "127.0.0.1:0"})
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { l.Run(ctx); close(ended) }()
	require.Eventually(t, func() bool { return l.Addr() != nil }, 5*time.Second, time.Millisecond)
	c, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	defer c.Close()
	const n = maxWaiting + 5000
	go io.Copy(c, io.LimitReader(&numbered{}, n*8))
	seen := 0
	require.Eventually(t, func() bool {
		return len(l.State().Senders) == 1 &&
			l.State().Senders[0].Received == maxWaiting
	}, 5*time.Second, time.Millisecond)
	require.Eventually(t, func() bool {
		for _, m := range l.Take(1000) {
			require.Equal(t, fmt.Sprintf("%07d", seen), string(m.Text))
			seen++
		}
		return seen == n
	}, 5*time.Second, time.Millisecond)
	assert.Zero(t, l.State().Senders[0].Dropped)
	go io.Copy(c, io.LimitReader(&numbered{}, n*8))
	require.Eventually(t, func() bool {
		l.mu.Lock()
		defer l.mu.Unlock()
		return len(l.find("127.0.0.1").queue) == maxWaiting
	}, 5*time.Second, time.Millisecond)
	cancel()
	<-ended
}

// numbered writes lines of seven digits.
type numbered struct{ n int }

func (x *numbered) Read(b []byte) (int, error) {
	k := 0
	for ; k+8 <= len(b); k += 8 {
		copy(b[k:], fmt.Sprintf("%07d\n", x.n))
		x.n++
	}
	return k, nil
}

// FuzzFrames: no stream breaks the cutting into messages, or makes one too long.
func FuzzFrames(f *testing.F) {
	f.Add([]byte("7 <13>one<13>two\n9999999999 x"))
	f.Add([]byte("<13>one\x00\r\n0 1 2 3"))
	f.Fuzz(func(t *testing.T, stream []byte) {
		r := NewFrames(bytes.NewReader(stream))
		total := 0
		for {
			b, err := r.Next()
			require.LessOrEqual(t, len(b), MaxMessage)
			total += len(b)
			if err != nil {
				require.True(t, errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF), err)
				break
			}
		}
		require.LessOrEqual(t, total, len(stream))
	})
}
