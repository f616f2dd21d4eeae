package draw

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/entry"
)

func chart() *Chart {
	at := func(m int) entry.Instant { return entry.Of(time.Date(2026, 11, 24, 5, m, 0, 0, time.UTC)) }
	return &Chart{Title: "pumps & <gates>", From: at(0), To: at(59), Rows: []Row{
		{Rule: "pump-pressure-low", Key: "pump-03 7 \x1b[31m \u202e" + strings.Repeat("long ", 40),
			Hits: []entry.Instant{at(3), at(4), at(5)},
			Alerts: []Alert{{From: at(5), To: at(20), Why: "recovery",
				Steps: []Step{{at(5), entry.Warning}, {at(9), entry.Critical}}}}},
		{Rule: "gate-refused", Key: "gate-a1", Alerts: []Alert{{From: at(30), To: entry.None,
			Steps: []Step{{at(30), entry.Error}}}}},
	}}
}

// Whatever a log says, the drawing is well-formed, and holds nothing but text.
func TestSVG(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, chart().SVG(&b))
	assert.Contains(t, b.String(), "pump-pressure-low")
	assert.NotContains(t, b.String(), "\x1b")
	assert.NotContains(t, b.String(), "\u202e")
	d := xml.NewDecoder(&b)
	for {
		if _, err := d.Token(); err == io.EOF {
			break
		} else {
			require.NoError(t, err)
		}
	}
}

func TestPDF(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, chart().PDF(&b))
	assert.True(t, bytes.HasPrefix(b.Bytes(), []byte("%PDF-1.")))
	assert.Equal(t, "\xd6l \x85 ?", codePage("Öl … 日"))
	require.NoError(t, (&Chart{Title: "empty"}).PDF(&b))
	long := chart()
	for range 6 {
		long.Rows = append(long.Rows, long.Rows...)
	}
	b.Reset()
	require.NoError(t, long.PDF(&b))
	assert.Contains(t, b.String(), fmt.Sprintf("/Count %d", (len(long.Rows)+pageRows-1)/pageRows),
		"as many pages as its rows need")
}
