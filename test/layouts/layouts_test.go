// Package layouts holds a corpus of log formats, all made up for it in the style of
// many kinds of machines and programs, and of logs that real programs wrote, and the test of what is found in them.
package layouts

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dimlantern/workbench"

	"dimlantern/folder"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/author"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
	"dimlantern/core/trial"
)

// What is found in each log: the layout, how many entries it fits, how many have a
// time, of how many; the times of the first and of the last entry, and the fields.
var corpus = []struct {
	file, what          string
	fits, timed, of     int
	first, last, fields string
}{
	{"01-iso-space-ms", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.114Z", "2026-11-24T05:40:29.283Z",
		"at host program pid text"},
	{"02-iso-comma", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.114Z", "2026-11-24T05:40:29.283Z",
		"at level text"},
	{"03-rfc3339", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z", "at text"},
	{"04-rfc3339-offset", "a pattern", 14, 14, 14, "2026-11-24T04:32:28.114Z", "2026-11-24T04:40:29.283Z",
		"at host text"},
	{"05-bracketed", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"at level text"},
	{"06-syslog", "syslog", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"at host program pid text"},
	{"07-syslog-pri", "syslog", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"facility level at host program text"},
	{"08-rfc5424", "syslog", 14, 14, 14, "2026-11-24T05:32:28.114Z", "2026-11-24T05:40:29.283Z",
		"facility level at host program pid msgid sd-level tide-32473.level text"},
	{"09-json", "JSON", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z", "ts level host pid text"},
	{"10-json-nested", "JSON", 14, 14, 14, "2026-11-24T05:32:28.114Z", "2026-11-24T05:40:29.283Z",
		"timestamp level host text"},
	{"11-json-epoch", "JSON", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:45:28.000Z",
		"time text bay level"},
	{"12-logfmt", "logfmt", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"time level store bay temp text"},
	{"13-logfmt-epoch", "logfmt", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:45:28.300Z",
		"ts took level text"},
	{"14-csv-header", "columns with commas between them and a header line", 14, 14, 14, "2026-11-24T05:32:28.000Z",
		"2026-11-24T05:40:29.000Z", "time host pump pressure text"},
	{"15-csv-no-header", "columns with commas between them", 14, 14, 14, "2026-11-24T05:32:28.000Z",
		"2026-11-24T05:40:29.000Z", "at host c3 c4 level"},
	{"16-semicolon-german", "columns with ; between them and a header line", 14, 14, 14, "2026-11-24T05:32:28.000Z",
		"2026-11-24T05:40:29.000Z", "Zeit Kammer Temperatur Tor"},
	{"17-tabs-header", "columns with tabs between them and a header line", 14, 14, 14, "2026-11-24T05:32:28.000Z",
		"2026-11-24T05:40:29.000Z", "when level host text"},
	{"18-tabs", "columns with tabs between them", 14, 14, 14, "2026-11-24T05:32:28.114Z", "2026-11-24T05:40:29.283Z",
		"at host text"},
	{"19-pipes", "columns with | between them", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"at host level text"},
	{"20-clf", "a common web log", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"client at request method path query protocol status bytes"},
	{"21-combined", "a combined web log", 14, 14, 14, "2026-11-24T04:32:28.000Z", "2026-11-24T04:40:29.000Z",
		"client account at request method path protocol status bytes referrer agent"},
	{"22-w3c", "a W3C extended log", 12, 12, 12, "2026-11-24T05:32:28.000Z", "2026-11-24T05:39:15.000Z",
		"date time cs-method cs-uri-stem sc-status cs-user-agent time-taken client"},
	{"23-us-ampm", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T19:59:08.000Z", "at host text"},
	{"24-us-short", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T19:59:08.000Z", "at pid text"},
	{"25-european-dots", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"at program text"},
	{"26-european-slash", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-30T05:59:08.000Z",
		"at level text"},
	{"27-asctime", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z", "at level text"},
	{"28-asctime-us", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.114Z", "2026-11-24T05:40:29.283Z",
		"at program level pid text"},
	{"29-rfc1123", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"at program text"},
	{"30-epoch", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:45:41.000Z", "at text"},
	{"31-epoch-ms", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.114Z", "2026-11-24T05:45:41.127Z", "at level text"},
	{"32-epoch-decimals", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:45:41.091Z", "at text"},
	{"33-epoch-brackets", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:45:41.000Z", "at text"},
	{"34-compact", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z", "at host text"},
	{"35-compact-digits", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"at level text"},
	{"36-year-slash", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z", "at text"},
	{"37-thread", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.114Z", "2026-11-24T05:40:29.283Z",
		"at thread level program text"},
	{"38-level-first", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"level at text"},
	{"39-level-bracket-first", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"level at host text"},
	{"40-level-padded", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"at level text"},
	{"41-day-month-name", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z", "at text"},
	{"42-day-month-year", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.114Z", "2026-11-24T05:40:29.283Z",
		"at level text"},
	{"43-month-day-comma", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"at text"},
	{"44-zone-letters", "a pattern", 14, 14, 14, "2026-11-24T04:32:28.000Z", "2026-11-24T04:40:29.000Z",
		"at pid text"},
	{"45-zone-offset-space", "a pattern", 14, 14, 14, "2026-11-24T04:32:28.000Z", "2026-11-24T04:40:29.000Z",
		"at host text"},
	{"46-ordinal", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z", "at text"},
	{"47-mainframe", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.114Z", "2026-11-24T05:40:29.283Z", "at host text"},
	{"48-key-colon", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"at program text"},
	{"49-address-first", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"client at text"},
	{"50-address-after", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"at client text"},
	{"51-pid-number", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.114Z", "2026-11-24T05:40:29.283Z",
		"at level pid text"},
	{"52-angle-level", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"at level text"},
	{"53-quoted-time", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"at host text"},
	{"54-stack", "a pattern, of entries of several lines", 14, 14, 14, "2026-11-24T05:32:28.000Z",
		"2026-11-24T05:40:29.000Z", "at level text"},
	{"55-plain-words", "plain", 10, 0, 10, "", "", ""},
	{"56-plain-numbers", "plain", 12, 0, 12, "", "", ""},
	{"57-time-of-day-only", "plain", 12, 0, 12, "", "", ""},
	{"58-event-xml", "event XML", 10, 10, 10, "2026-11-24T05:32:28.114Z", "2026-11-24T05:38:01.231Z",
		"at provider channel event level host record account-name account Account text"},
	{"59-journal-json", "the system journal as JSON", 10, 10, 10, "2026-11-24T05:32:28.114Z",
		"2026-11-24T05:32:37.114Z", "cursor host level program at text"},
	{"60-journal-export", "the system journal's export format", 10, 10, 10, "2026-11-24T05:32:28.114Z",
		"2026-11-24T05:32:37.114Z", "cursor host level program at text"},
	{"61-mixed-level-case", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.114Z", "2026-11-24T05:40:29.283Z",
		"at level host text"},
	{"62-uuid-text", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"at level thread text"},
	{"63-dash-separators", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"at level host text"},
	{"64-pipe-blanks", "columns with | between them", 14, 14, 14, "2026-11-24T05:32:28.000Z",
		"2026-11-24T05:40:29.000Z", "at level program text"},
	{"65-ambiguous", "a pattern", 9, 9, 9, "2026-01-01T00:00:00.000Z", "2026-09-09T08:00:00.000Z", "at text"},
	{"66-microseconds", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.114Z", "2026-11-24T05:40:29.283Z", "at text"},
	{"67-year-name", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z", "at text"},
	{"68-text-time-inside", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"at text"},
	{"69-json-array-values", "JSON", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:40:29.000Z",
		"timestamp gates level account"},
	{"70-syslog-iso", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.114Z", "2026-11-24T05:40:29.283Z",
		"at host program pid text"},
	{"71-colon-milliseconds", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.114Z", "2026-11-24T05:36:41.595Z",
		"at text"},
	{"72-some-levels", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:36:41.000Z",
		"at text level"},
	{"73-level-on-second-line", "a pattern, of entries of several lines", 14, 14, 14, "2026-11-24T05:32:28.000Z",
		"2026-11-24T05:36:41.000Z", "at program place level text"},
	{"74-pairs-semicolons", "pairs of keys and values, 5 of them", 14, 14, 14, "2026-11-24T05:32:28.000Z",
		"2026-11-24T05:36:41.000Z", "time level gate text"},
	{"75-commented-blocks", "blocks that begin with # Time", 15, 14, 15, "2026-11-24T05:32:28.000Z",
		"2026-11-24T05:36:41.000Z", "at account client id query_time lock_time rows_sent rows_examined"},
	{"76-key-blocks", "blocks that begin with Began", 14, 14, 14, "2026-11-24T05:32:28.000Z",
		"2026-11-24T05:36:41.000Z", "at operator crane ended"},
	{"77-banner", "a pattern, of entries of several lines", 14, 14, 20, "2026-11-24T05:32:28.000Z",
		"2026-11-24T05:36:41.000Z", "at level text"},
	{"78-pid-role", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.114Z", "2026-11-24T05:36:41.127Z",
		"pid role at level text"},
	{"79-program-first", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.000Z", "2026-11-24T05:36:41.000Z",
		"program at text"},
	{"80-padded-program", "a pattern", 14, 14, 14, "2026-11-24T05:32:28.114Z", "2026-11-24T05:36:41.127Z",
		"at program pid level text"},
	// What real programs wrote, in the forms that they have here without a word from a person.
	{"real/alternatives", "a pattern", 30, 30, 30, "2025-06-24T14:36:53.000Z", "2025-06-24T14:39:44.000Z",
		"program at text"},
	{"real/apache-access", "a combined web log", 40, 40, 40, "2026-11-29T08:14:49.000Z", "2026-11-29T08:14:50.000Z",
		"client at request method path protocol status bytes agent"},
	{"real/apache-error", "a pattern", 40, 40, 40, "2026-11-29T08:14:48.423Z", "2026-11-29T08:14:50.686Z",
		"at program level pid thread text client"},
	{"real/apache-vhost", "a web log with more in it", 40, 40, 40, "2026-11-29T08:14:49.000Z",
		"2026-11-29T08:14:50.000Z",
		"host port client ident account at request method path protocol status bytes referrer agent"},
	{"real/bind", "a pattern", 40, 40, 40, "2026-11-29T08:15:34.742Z", "2026-11-29T08:15:42.726Z",
		"at program level text"},
	{"real/dovecot", "a pattern", 40, 40, 40, "2026-11-29T08:26:41.000Z", "2026-11-29T08:26:53.000Z",
		"at program level text"},
	{"real/dpkg", "a pattern", 40, 40, 40, "2025-06-24T14:36:25.000Z", "2026-11-29T08:00:59.000Z",
		"at text"},
	{"real/history", "blocks that begin with Start-Date", 17, 17, 17, "2025-06-24T14:36:25.000Z",
		"2026-11-29T07:59:43.000Z",
		"at commandline end_date install"},
	{"real/mariadb-error", "a pattern", 40, 40, 40, "2026-11-29T08:14:35.000Z", "2026-11-29T08:14:37.000Z",
		"at thread level text"},
	{"real/mariadb-general", "plain", 40, 0, 40, "", "", ""},
	{"real/mariadb-slow", "blocks that begin with # User@Host", 15, 14, 15, "2026-11-29T08:14:35.000Z",
		"2026-11-29T08:14:35.000Z",
		"at account client thread_id schema qc_hit query_time lock_time rows_sent rows_examined rows_affected " +
			"bytes_sent"},
	{"real/mosquitto", "a pattern", 40, 40, 40, "2026-11-29T08:15:31.000Z", "2026-11-29T08:15:39.000Z",
		"at text"},
	{"real/nginx-access", "a combined web log", 40, 40, 40, "2026-11-29T08:14:45.000Z", "2026-11-29T08:14:55.000Z",
		"client at request method path query protocol status bytes agent"},
	{"real/nginx-error", "a pattern", 40, 40, 40, "2026-11-29T08:14:45.000Z", "2026-11-29T08:14:55.000Z",
		"at level pid thread text connection client request host"},
	{"real/postgres-csv", "columns with commas between them", 72, 72, 72, "2026-11-29T08:14:21.586Z",
		"2026-11-29T08:14:30.572Z",
		"at pid session line session-start transaction level sqlstate text backend query-id client account database " +
			"command virtual-transaction application detail query query-position"},
	{"real/postgres-debian", "a pattern, of entries of several lines", 37, 37, 37, "2026-11-29T08:14:30.708Z",
		"2026-11-29T08:14:34.376Z",
		"at pid level text account database"},
	{"real/postgres-json", "JSON", 40, 40, 40, "2026-11-29T08:14:21.586Z", "2026-11-29T08:14:30.572Z",
		"timestamp pid session_id line_num session_start txid backend_type query_id level text ps client " +
			"vxid account database application_name state_code detail statement cursor_position"},
	{"real/postgres", "a pattern, of entries of several lines", 34, 34, 34, "2026-11-29T08:14:21.586Z",
		"2026-11-29T08:14:30.572Z",
		"at pid level text"},
	{"real/redis", "a pattern", 40, 40, 40, "2026-11-29T08:14:38.032Z", "2026-11-29T08:14:45.672Z",
		"pid role at level text"},
	{"real/samba", "a pattern, of entries of several lines", 19, 19, 19, "2026-11-29T08:15:18.713Z",
		"2026-11-29T08:15:33.676Z",
		"at verbosity place text"},
	{"real/squid-access", "the access log of a proxy", 40, 40, 40, "2026-11-29T08:14:54.720Z",
		"2026-11-29T08:14:55.838Z",
		"at took client result status bytes method path account route peer type rest"},
	{"real/squid-cache", "a pattern", 37, 37, 40, "2026-11-29T08:14:51.000Z", "2026-11-29T08:15:04.000Z",
		"at text"},
	{"real/syslog-old", "syslog", 40, 40, 40, "2026-11-29T08:15:38.000Z", "2026-11-29T08:16:19.000Z",
		"at host program text pid"},
}

// Each format is found, with its time, or plain is said; what is proposed checks clean,
// is in its one form already, and gives the fields that were counted.
func TestCorpus(t *testing.T) {
	near := entry.Of(time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC))
	require.GreaterOrEqual(t, len(corpus), 60)
	files, err := filepath.Glob("*/*.log")
	require.NoError(t, err)
	require.Len(t, files, len(corpus))
	for _, c := range corpus {
		t.Run(c.file, func(t *testing.T) {
			path := c.file + ".log"
			if !strings.Contains(path, "/") {
				path = "logs/" + path
			}
			data, err := os.ReadFile(path)
			require.NoError(t, err)
			all := layout.Detect(strings.Split(strings.TrimSuffix(string(data), "\n"), "\n"), near)
			p := all[0]
			assert.Equal(t, []any{c.what, c.fits, c.timed, c.of}, []any{p.What, p.Fits, p.Timed, p.Of}, p.Describe())
			assert.Equal(t, "plain", all[len(all)-1].What, "plain is always among them")

			text := workbench.Proposed(&p, "log", []string{path})
			settings, ds := folder.Check([]folder.Text{{Name: "t.lantern", Body: text}})
			require.Empty(t, ds, text)
			src := settings.Sources[0]
			plan := match.NewPlan(settings, src, nil, time.UTC)
			d := &layout.Divider{Layout: plan.Layout}
			first, last := entry.None, entry.None
			var names []string
			plan.All(data, func(line []byte) {
				if plan.Layout.Headed() && d.See(line) {
					return
				}
				x, _ := plan.Divide(d, line, near)
				if x.Timed {
					if last = x.At; first == entry.None {
						first = x.At
					}
				}
				for _, f := range x.Fields {
					if !strings.Contains(" "+strings.Join(names, " ")+" ", " "+f.Name+" ") {
						names = append(names, f.Name)
					}
				}
			})
			assert.Equal(t, []string{c.first, c.last, c.fields},
				[]string{first.String(), last.String(), strings.Join(names, " ")}, text)
		})
	}
}

// A rule that begins with an entry of a log is one that it hits: whatever program wrote it, the settings
// have no error, its expect passes, and neither its name nor its key is a time.
func TestRulesBeginWithAnyEntry(t *testing.T) {
	now := entry.Of(time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC))
	files, err := filepath.Glob("*/*.log")
	require.NoError(t, err)
	began := 0
	for _, path := range files {
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		p := layout.Detect(strings.Split(strings.TrimSuffix(string(data), "\n"), "\n"), now)[0]
		body := workbench.Proposed(&p, "log", []string{path})
		settings, _ := folder.Check([]folder.Text{{Name: "t.lantern", Body: body}})
		src := settings.Sources[0]
		plan := match.NewPlan(settings, src, nil, time.UTC)
		d := &layout.Divider{Layout: plan.Layout}
		var all []string
		plan.Entries(data, func(line []byte) {
			if !plan.Layout.Headed() || !d.See(line) {
				all = append(all, string(line))
			}
		})
		for i := 0; i < len(all); i += 3 {
			text, why := author.Rule(settings, src, plan, data, all[i], 0, now)
			both, ds := folder.Check([]folder.Text{{Name: "t.lantern", Body: body}, {Name: "r.lantern", Body: text}})
			require.False(t, lang.Errors(ds), "%s: %v\n%s", path, ds, text)
			for _, o := range trial.ExpectsOf(both, both.Rules[0]) {
				require.False(t, o.Failed, "%s: %s\n%s", path, o.Why, text)
				began++
			}
			assert.NotRegexp(t, `per [\w-]+: \d\d(:\d\d)+`, strings.Join(why, "\n"), path)
		}
	}
	assert.Greater(t, began, 500)
}
