package match_test

import (
	"strings"
	"testing"
	"time"

	"dimlantern/core/verdict"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
	"dimlantern/core/layout"
	"dimlantern/core/match"
)

// What is kept comes out as it came, in a line of its own, whoever sent it; and its
// folder says from whom it is.
func TestKeptThereAndBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := strings.ReplaceAll(rapid.SampledFrom([]string{"", "\x1e", "a\x1e"}).Draw(t, "begins")+
			rapid.String().Draw(t, "text"), "\v", "")
		peer := rapid.SampledFrom([]string{"", "192.0.2.7:514", "[2001:db8::1]:514", "a b", "s=1;i=2"}).Draw(t,
			"peer")
		at := entry.Instant(rapid.Int64Range(0, 4e9).Draw(t, "at") * 1e9)
		line := match.AppendKept(nil, at, peer, match.Keepable([]byte(text)))
		require.NotContains(t, string(line), "\n")
		arrived, from, rest, ok := match.CutKept(line)
		require.True(t, ok)
		require.Equal(t, at, arrived)
		if peer == "" || strings.Contains(peer, " ") {
			peer = "-"
		}
		require.Equal(t, peer, string(from))
		require.Equal(t, text, string(match.Unkept(rest)))

		host, way := rapid.String().Draw(t, "host"), rapid.String().Draw(t, "way")
		folder := match.KeptFolder(host, way)
		require.NotContains(t, folder, "/")
		require.NotEqual(t, ".", folder[:1])
		h, w, ok := match.KeptIn("/data/kept/s/" + folder + "/entries.log")
		require.True(t, ok)
		require.Equal(t, []string{host, way}, []string{h, w})
	})
}

const boxes = "source boxes {\n listen syslog udp \":514\"\n only level >= warning and program != \"idle\"\n " +
	"field site \"north\"\n}\n" +
	"rule low {\n on boxes\n problem /pump (?<pump>\\d+): low/ and site == \"north\"\n per host, pump\n raise " +
	"error\n clear by hand\n}\n"

// Kept entries are judged by what was sent: their host, their own time, else that of
// their arrival, and without those that the source does not take.
func TestKeptIsJudgedAsItCame(t *testing.T) {
	s := settings(t, boxes)
	plan := match.NewPlan(s, s.Sources[0], s.Rules, time.UTC)
	arrived := entry.Of(time.Date(2026, 11, 24, 5, 33, 10, 0, time.UTC))
	var log []byte
	for _, text := range []string{
		"<12>1 2026-11-24T05:33:08Z lock-3 pumpd 418 - - pump 7: low",
		"<12>pumpd: pump 8: low",
		"<14>1 2026-11-24T05:33:09Z lock-3 pumpd - - - pump 9: low",
		"<12>1 2026-11-24T05:33:09Z lock-4 idle - - - pump 9: low",
		"<11>1 2026-11-24T05:33:09Z lock-4 pumpd - - - pump 10: low\nbecause of sand",
	} {
		log = append(match.AppendKept(log, arrived, "192.0.2.7:514", []byte(text)), '\n')
	}
	var got []string
	r := match.NewReader(plan, "lock-3:192.0.2.7", "lock-3", true)
	r.Scan(log, 0, arrived.Add(time.Second), func(j *verdict.Judged) {
		require.Len(t, j.Verdicts, 1)
		got = append(got, strings.Join(j.Verdicts[0].Key, " ")+" "+time.Duration(j.Entry.At.Sub(arrived)).String()+
			" "+j.Entry.Raw[:4])
		assert.Equal(t, arrived, j.Entry.Arrived)
	}, nil)
	assert.Equal(t, []string{"lock-3 7 -2s <12>", "lock-3 8 0s <12>", "lock-4 10 -1s <11>"}, got)

	d := &layout.Divider{Layout: plan.Layout}
	assert.True(t, plan.Wants(d, arrived, "x", []byte("<12>1 2026-11-24T05:33:08Z lock-3 pumpd - - - a")))
	assert.False(t, plan.Wants(d, arrived, "x", []byte("<14>1 2026-11-24T05:33:08Z lock-3 pumpd - - - a")))
}

// A word for a value can be asked for, though it stands in no line.
func TestNamesOfValues(t *testing.T) {
	s := settings(t, "source s {\n files \"/x\"\n layout l\n}\nlayout l {\n pattern /^(?<code>\\d+) "+
		"(?<text>.*)$/\n names code {\n  4310 \"gate refused\"\n }\n}\n"+
		"rule r {\n problem code-name == \"gate refused\"\n per nothing\n raise error\n clear by hand\n}\n")
	plan := match.NewPlan(s, s.Sources[0], s.Rules, time.UTC)
	n := 0
	match.NewReader(plan, "h:/x", "h", false).Scan([]byte("4310 at gate 3\n4311 gate refused\n4310 at gate 4\n"), 0,
		0, func(*verdict.Judged) { n++ }, nil)
	assert.Equal(t, 2, n)
}
