package hosts

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever is lost, doubled or comes out of order, and however often the books are read again: each row is taken
// once, in its order, and what is missing is asked for.
func TestEachRowOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 40).Draw(t, "rows")
		var rows []Row
		prev := ""
		for i := range n {
			facts := json.RawMessage(fmt.Sprintf(`{"made":%d}`, i+1))
			r := Row{Folder: "f", Seq: int64(i + 1), Prev: prev, Facts: facts}
			r.Sum = SumOf(prev, facts)
			prev = r.Sum
			rows = append(rows, r)
		}
		var books Books
		var taken []int64
		give := func(r Row) {
			what, take, words := books.Judge("h", &r, false)
			require.Empty(t, words)
			require.NotEqual(t, Dropped, what)
			require.Equal(t, take, what == TakenWell && r.Seq == int64(len(taken)+1))
			if take {
				taken = append(taken, r.Seq)
			}
		}
		for len(taken) < n {
			from := rapid.IntRange(0, len(taken)).Draw(t, "from")
			if rapid.Bool().Draw(t, "asked") { // the host sends what is missing
				from = len(taken)
			}
			chunk := rows[from:rapid.IntRange(from, n).Draw(t, "to")]
			for _, r := range rapid.Permutation(chunk).Draw(t, "order") {
				if rapid.IntRange(0, 4).Draw(t, "lost") > 0 {
					give(r)
				}
			}
			if rapid.Bool().Draw(t, "in order") {
				for _, r := range rows[len(taken):min(len(taken)+5, n)] {
					give(r)
				}
			}
			if rapid.Bool().Draw(t, "restart") {
				p, err := ReadPage(books.Page("h").Encode())
				require.NoError(t, err)
				books.Pages["h"] = p
			}
		}
		for i, seq := range taken {
			require.Equal(t, int64(i+1), seq)
		}
		// Another content under a number that was taken is a clone's, and is refused.
		bad := rows[n-1]
		bad.Facts = json.RawMessage(`{"made":0}`)
		bad.Sum = SumOf(bad.Prev, bad.Facts)
		what, take, words := books.Judge("h", &bad, false)
		require.Equal(t, Dropped, what)
		require.False(t, take)
		require.Contains(t, words, "cloned")
	})
}
