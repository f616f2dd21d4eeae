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
		blind := map[string]bool{}  // those that the host's silence has raised
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
			case rapid.IntRange(0, 6).Draw(t, "unheard") == 0:
				in = HostUnheard{Reporter: host, At: at, Rule: "low", Fields: []string{"pump"}, Keys: [][]string{{key}},
					Severity: entry.Critical, Why: "blind"}
			case rapid.IntRange(0, 6).Draw(t, "heard") == 0:
				in = HostHeard{host, at}
			case open[id] == "" || blind[id]:
				tr.Change, tr.Alert = Raised, fmt.Sprint("a", n)
				in = Relayed{tr}
			default:
				tr.Change, tr.Alert = rapid.SampledFrom([]string{Worsened, Repeated, Cleared, Taken}).Draw(t, "change"),
					open[id]
				in = Relayed{tr}
			}
			ts, did := e.Apply(in)
			switch x := in.(type) {
			case HostUnheard:
				for _, tr := range ts { // none where it is as bad already
					require.Equal(t, []string{key, host, "blind"}, []string{tr.Key[0], tr.Reporter, tr.Why})
					require.Equal(t, open[id] == "", tr.Change == Raised)
					blind[id] = blind[id] || tr.Change == Raised
					open[id] = tr.Alert
				}
				require.Equal(t, did, len(ts) == 1)
				again, did := e.Apply(in)
				require.Empty(t, again)
				require.False(t, did)
			case HostHeard:
				for _, tr := range ts {
					of := host + "/" + tr.Key[0]
					require.Equal(t, []string{open[of], Cleared, "seen"}, []string{tr.Alert, tr.Change, tr.Why})
					require.True(t, blind[of])
					open[of], blind[of] = "", false
				}
				require.NotContains(t, e.Unheard(), host)
			case HostGone:
				lost := 0
				for of, a := range open {
					if a != "" && of[:len(host)] == x.Reporter {
						open[of], blind[of] = "", false
						lost++
					}
				}
				require.Len(t, ts, lost)
				for _, tr := range ts {
					require.Equal(t, "host gone", tr.Why)
					require.Equal(t, host, tr.Reporter)
				}
			default:
				require.True(t, did)
				if blind[id] { // the host decides again
					tr := ts[0]
					require.Equal(t, []string{open[id], Cleared, "seen"}, []string{tr.Alert, tr.Change, tr.Why})
					ts, blind[id] = ts[1:], false
				}
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
