package draw

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
)

// anyNumbers draws a picture of any numbers of any groups, of one number a group or along time.
func anyNumbers(t *rapid.T) *Numbers {
	text := rapid.OneOf(rapid.String(), rapid.SampledFrom([]string{"gate-a1", "<g onload='x'>", "a&b", "\x1b[31m", "\u202ec",
		strings.Repeat("long ", 300), "日本語", "\xff", "\ufffe"}))
	number := rapid.Custom(func(t *rapid.T) *float64 {
		if rapid.IntRange(0, 4).Draw(t, "lacks") == 0 {
			return nil
		}
		x := rapid.OneOf(rapid.Float64(), rapid.Float64Range(-5, 5), rapid.SampledFrom([]float64{0, 1, math.MaxFloat64,
			-math.MaxFloat64, math.SmallestNonzeroFloat64})).Draw(t, "number")
		return &x
	})
	from := entry.Of(time.Date(2026, 11, 24, 5, 0, 0, 0, time.UTC))
	n := &Numbers{Title: text.Draw(t, "title"), Question: text.Draw(t, "question"), What: text.Draw(t, "what"), From: from,
		To: from + entry.Instant(rapid.Int64Range(1, int64(400*24*time.Hour)).Draw(t, "span")), Beside: text.Draw(t, "beside"),
		Rests: []string{text.Draw(t, "rests")}, Dark: rapid.Bool().Draw(t, "dark"), Most: rapid.IntRange(0, 3).Draw(t, "most"),
		Shown: func(x float64) string { return fmt.Sprintf("%.4g", x) }}
	periods := rapid.IntRange(0, 40).Draw(t, "periods")
	for k := range periods {
		n.Bounds = append(n.Bounds, from+(n.To-from)/entry.Instant(periods)*entry.Instant(k))
	}
	if periods > 0 {
		n.Bounds = append(n.Bounds, n.To)
		n.Unseen = []Unseen{{n.Bounds[rapid.IntRange(0, periods).Draw(t, "dark")], n.To}}
	}
	for range rapid.IntRange(0, 70).Draw(t, "groups") {
		row := NumberRow{Name: text.Draw(t, "group"), Rest: rapid.Bool().Draw(t, "rest"), Value: number.Draw(t, "value"),
			Beside: number.Draw(t, "beside")}
		for range periods {
			row.Series = append(row.Series, number.Draw(t, "in a period"))
			row.Besides = append(row.Besides, number.Draw(t, "beside"))
		}
		n.Groups = append(n.Groups, row)
	}
	return n
}

// Whatever the numbers and the names, the drawing is well-formed, has no script and no other outside, and
// all that is drawn has a place on it.
func TestNumbersDrawAnything(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := anyNumbers(t)
		var b bytes.Buffer
		require.NoError(t, n.SVG(&b))
		high, wide := n.high().Points(), float64(width)
		for d := xml.NewDecoder(&b); ; {
			token, err := d.Token()
			if errors.Is(err, io.EOF) {
				break
			}
			require.NoError(t, err)
			element, ok := token.(xml.StartElement)
			if !ok {
				continue
			}
			require.Contains(t, []string{"svg", "g", "path", "text"}, element.Name.Local)
			for _, a := range element.Attr {
				require.NotContains(t, a.Name.Local, "on")
				if a.Name.Local != "d" {
					continue
				}
				for k, word := range strings.FieldsFunc(a.Value, func(r rune) bool { return strings.ContainsRune("MLZAC, ", r) }) {
					at, err := strconv.ParseFloat(word, 64)
					require.NoError(t, err, a.Value)
					most := wide
					if k%2 == 1 {
						most = high
					}
					require.True(t, at >= -1 && at <= most+1, "%v is beside the drawing of %v to %v: %s", at, wide, high, a.Value)
				}
			}
		}
		b.Reset()
		require.NoError(t, n.PDF(&b))
		require.True(t, bytes.HasPrefix(b.Bytes(), []byte("%PDF-1.")))
	})
}
