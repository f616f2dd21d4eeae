package draw

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
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
	text := rapid.OneOf(rapid.String(), rapid.SampledFrom([]string{"gate-a1", "<g onload='x'>", "a&b",
		"\x1b[31m", "\u202ec", strings.Repeat("long ", 300), "日本語", "\xff", "\ufffe"}))
	number := rapid.Custom(func(t *rapid.T) *float64 {
		if rapid.IntRange(0, 4).Draw(t, "lacks") == 0 {
			return nil
		}
		x := rapid.OneOf(rapid.Float64(), rapid.Float64Range(-5, 5), rapid.SampledFrom([]float64{0, 1, math.MaxFloat64,
			-math.MaxFloat64, math.SmallestNonzeroFloat64})).Draw(t, "number")
		return &x
	})
	from := entry.Of(time.Date(2026, 11, 24, 5, 0, 0, 0, time.UTC))
	n := &Numbers{Title: text.Draw(t, "title"), Question: text.Draw(t, "question"), What: text.Draw(t, "what"),
		From: from, To: from + entry.Instant(rapid.Int64Range(1, int64(400*24*time.Hour)).Draw(t, "span")),
		Beside: text.Draw(t, "beside"), Rests: []string{text.Draw(t, "rests")},
		Dark: rapid.Bool().Draw(t, "dark"), Most: rapid.IntRange(0, 3).Draw(t, "most"),
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
		row := NumberRow{Name: text.Draw(t, "group"), Rest: rapid.Bool().Draw(t, "rest"),
			Value: number.Draw(t, "value"), Beside: number.Draw(t, "beside")}
		for range periods {
			row.Series = append(row.Series, number.Draw(t, "in a period"))
			row.Besides = append(row.Besides, number.Draw(t, "beside"))
		}
		n.Groups = append(n.Groups, row)
	}
	return n
}

// wellDrawn holds a drawing to what all are: well-formed, of shapes and texts alone, and all that is drawn
// has a place on it.
func wellDrawn(t *rapid.T, svg io.Reader, wide, high float64) {
	for d := xml.NewDecoder(svg); ; {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return
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
			places := strings.FieldsFunc(a.Value, func(r rune) bool { return strings.ContainsRune("MLZAC, ", r) })
			for k, word := range places {
				at, err := strconv.ParseFloat(word, 64)
				require.NoError(t, err, a.Value)
				most := []float64{wide, high}[k%2]
				require.True(t, at >= -1 && at <= most+1, "beside the drawing of %v to %v: %s", wide, high, a.Value)
			}
		}
	}
}

// Whatever the numbers and the names, a picture of them is drawn.
func TestNumbersDrawAnything(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := anyNumbers(t)
		var b bytes.Buffer
		require.NoError(t, n.SVG(&b))
		wellDrawn(t, &b, width, n.high().Points())
		b.Reset()
		require.NoError(t, n.PDF(&b))
		require.True(t, bytes.HasPrefix(b.Bytes(), []byte("%PDF-1.")))
	})
}

// Whenever alerts began, rose and ended, before, in and behind the span, their lifelines are drawn in it.
func TestLifelinesDrawAnything(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		from := entry.Of(time.Date(2026, 11, 24, 5, 0, 0, 0, time.UTC))
		c := &Chart{Title: rapid.String().Draw(t, "title"), From: from,
			To: from + entry.Instant(rapid.Int64Range(1, int64(40*24*time.Hour)).Draw(t, "span"))}
		around := rapid.Custom(func(t *rapid.T) entry.Instant {
			return from + entry.Instant(rapid.Int64Range(-int64(c.To-from), 2*int64(c.To-from)).Draw(t, "at"))
		})
		for range rapid.IntRange(0, 30).Draw(t, "rows") {
			row := Row{Rule: rapid.String().Draw(t, "rule"), Key: rapid.String().Draw(t, "key"),
				Hits: rapid.SliceOfN(around, 0, 20).Draw(t, "hits")}
			times := rapid.SliceOfN(around, 0, 9).Draw(t, "times")
			slices.Sort(times)
			for len(times) >= 3 {
				row.Alerts = append(row.Alerts, Alert{From: times[0], To: times[2], Why: rapid.String().Draw(t, "why"),
					Steps: []Step{{times[0], entry.Notice}, {times[1], entry.Critical}}})
				times = times[3:]
			}
			if n := len(row.Alerts); n > 0 && rapid.Bool().Draw(t, "open") {
				row.Alerts[n-1].To = entry.None
			}
			c.Rows = append(c.Rows, row)
		}
		var b bytes.Buffer
		require.NoError(t, c.SVG(&b))
		wellDrawn(t, &b, width, float64(headed+footed+rowHigh*max(len(c.Rows), 1)))
		require.NoError(t, c.PDF(io.Discard))
	})
}
