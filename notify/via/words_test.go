package via_test

import (
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	. "dimlantern/notify/via"
)

// What a person reads first says what is wrong, how bad, where and since when, and nothing of it twice.
func TestSubjects(t *testing.T) {
	words, err := ReadWords("", time.FixedZone("CET", 3600))
	require.NoError(t, err)
	at := time.Date(2026, 11, 24, 5, 33, 10, 0, time.UTC)
	of := func(kind string, list ...News) string {
		m := &Message{Kind: kind, Made: at.Add(time.Minute), Host: "lock-3", Contact: "duty", Alerts: Together(list)}
		if len(m.Alerts) == 1 {
			m.Kind = KindAlert
		}
		require.NoError(t, words.Fill(m, true))
		first, _, _ := strings.Cut(m.Text, "\n\n")
		assert.Equal(t, m.Subject, strings.ReplaceAll(first, "\n", " "), "the first line says the same")
		return m.Subject
	}
	low := News{Change: "raised", Rule: "pump-low", Alert: "a",
		Key:    map[string]string{"host": "pump-03", "pump": "7"},
		Fields: []string{"host", "pump"}, Severity: "warning", At: at, Since: at,
		Say: "Pump 7: pressure low", Own: true,
		Where: "pump-03"}
	assert.Equal(t, "Pump 7: pressure low; warning at pump-03, since 06:33 CET", of(KindAlert, low))
	said := low
	said.Say = "Pump 7 at pump-03: pressure low"
	assert.Equal(t, "Pump 7 at pump-03: pressure low; warning, since 06:33 CET", of(KindAlert, said))
	bare := low
	bare.Own = false
	assert.Equal(t, "pump-low: host pump-03, pump 7; warning, since 06:33 CET", of(KindAlert, bare))
	worse, over := said, said
	worse.Change, worse.Severity, worse.At = "worsened", "critical", at.Add(time.Minute)
	over.Change, over.At = "cleared", at.Add(34*time.Minute)
	assert.Equal(t, "Pump 7 at pump-03: pressure low; raised as warning, then critical, since 06:33 CET",
		of(KindSeveral, said, worse), "one alert is told as one")
	assert.Equal(t, "Pump 7 at pump-03: pressure low; raised as warning, then critical, then over after 34m",
		of(KindSeveral, said, worse, over))
	other := bare
	other.Alert, other.Severity = "b", "error"
	assert.Equal(t, "pump-low: host pump-03, pump 7; error, since 06:33 CET, and 1 more", of(KindSeveral, said, other))
	old := said
	old.Since = at.Add(-26 * time.Hour)
	assert.Contains(t, of(KindAlert, old), "since 23 Nov 04:33 CET")
}

// A plain text holds in 72 columns, says all of what was said, in its order, and holds nothing that cannot
// be seen; a command stays whole.
func TestPlainTextHolds(t *testing.T) {
	words, err := ReadWords("", nil)
	require.NoError(t, err)
	word := rapid.StringMatching(`[a-z]{1,12}|[0-9./]{1,30}|水位が低い|🚢|[x/]{90}|http://x|e\x{301}`)
	text := rapid.Custom(func(t *rapid.T) string {
		return strings.Join(rapid.SliceOfN(word, 1, 40).Draw(t, "words"), " ")
	})
	rapid.Check(t, func(t *rapid.T) {
		m := Sample(rapid.SampledFrom([]string{KindAlert, KindSeveral, KindSummary, KindCaught}).Draw(t, "kind"))
		m.Take = " --data /srv/" + strings.Repeat("x", rapid.IntRange(0, 60).Draw(t, "data"))
		said := text.Draw(t, "say")
		for i := range m.Alerts {
			a := &m.Alerts[i]
			a.Alert = strings.Repeat("k", i+1)
			a.Say, a.Advise, a.Evidence[0].Text = said, text.Draw(t, "advise"), text.Draw(t, "evidence")
		}
		require.NoError(t, words.Fill(m, false))
		for line := range strings.Lines(m.Text) {
			line = strings.TrimRight(line, "\n")
			if !strings.Contains(line, "dimlantern take") {
				require.LessOrEqual(t, ansi.StringWidth(line), 72, "%q", line)
			}
		}
		for _, r := range m.Subject + m.Text {
			require.False(t, r != '\n' && (unicode.IsControl(r) || unicode.Is(unicode.Cf, r)), "%q", r)
		}
		bare := func(s string) string { return strings.Join(strings.Fields(s), "") }
		unlinked := strings.ReplaceAll(said, "://", "[:]//")
		if len([]rune(unlinked)) < 150 {
			require.Contains(t, bare(m.Text), bare(unlinked))
		}
	})
}
