package engine

import (
	"fmt"
	"testing"

	"dimlantern/core/entry"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// What hosts have reported is told as they decided it, each once; an engine that was written and read, or that
// the journal's inputs were applied to, knows the same.
func TestRelayed(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e, copied := New(nil), New(nil)
		open := map[string]string{} // host and key → alert
		n := 0
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			n++
			host := rapid.SampledFrom([]string{"pump-1", "pump-2", "lock-a"}).Draw(t, "host")
			key := rapid.SampledFrom([]string{"7", "8", "?"}).Draw(t, "key")
			at := entry.Instant(n) * 1e9
			tr := Transition{At: at, Rule: "low", Fields: []string{"pump"}, Key: []string{key}, Severity: entry.Error,
				Count: n, First: at, Last: at, Why: "1 hit", Say: "low\nhere", Reporter: host}
			id := host + "/" + key
			var in Input
			switch {
			case rapid.IntRange(0, 20).Draw(t, "gone") == 0:
				in = HostGone{host, at}
			case open[id] == "":
				tr.Change, tr.Alert = Raised, fmt.Sprint("a", n)
				in = Relayed{tr}
			default:
				tr.Change, tr.Alert = rapid.SampledFrom([]string{Worsened, Repeated, Cleared, Taken}).Draw(t, "change"),
					open[id]
				in = Relayed{tr}
			}
			ts, did := e.Apply(in)
			if x, is := in.(HostGone); is {
				lost := 0
				for of, a := range open {
					if a != "" && of[:len(host)] == x.Reporter {
						open[of] = ""
						lost++
					}
				}
				require.Len(t, ts, lost)
				for _, tr := range ts {
					require.Equal(t, "host gone", tr.Why)
					require.Equal(t, host, tr.Reporter)
					require.Equal(t, "low\nhere", tr.Say)
				}
			} else {
				require.True(t, did)
				require.Equal(t, []Transition{tr}, ts)
				if open[id] = tr.Alert; tr.Change == Cleared {
					open[id] = ""
				}
			}
			read, rest, err := ReadInput(AppendInput(nil, in))
			require.NoError(t, err)
			require.Empty(t, rest)
			copied.Apply(read)
			if rapid.Bool().Draw(t, "restart") {
				copied, err = Decode(nil, copied.Encode())
				require.NoError(t, err)
			}
			require.Equal(t, e.Encode(), copied.Encode())
			seen := 0
			e.View().Open(func(k *KeyView) bool {
				seen++
				require.Equal(t, k.Alert, open[k.Key[1]+"/"+k.Key[0]])
				return true
			})
			want := 0
			for _, a := range open {
				if a != "" {
					want++
				}
			}
			require.Equal(t, want, seen)
		}
	})
}
