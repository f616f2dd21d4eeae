package lang

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
)

const outSettings = `
settings {
  measures listen "127.0.0.1:7424"
  measures to "http://collector.gullhaven.example:4318" every 30s
  measures at most 20000 series
  keep alerts 180d
  keep at most 2 GiB
  keep results 90d
}
contact harbour-master { mail "hm@gullhaven.example" }
source gates {
  files "/var/log/gates/*.log"
  layout gate-line
}
layout gate-line {
  pattern /^(?<at>\S+) (?<gate>\S+) (?<took>\S+) (?<text>.*)$/
  time    at rfc3339
  type    took duration in ms
}
report monday-gates {
  title  "Gates of Gullhaven"
  ask    alerts-by-rule, handover
  every  mon at 07:00
  covers last week
  as     pdf, csv
  tell   harbour-master
  write  "/srv/reports"
  skip   when empty
  keep   4
}
measure open-times {
  on    gates
  where "opened"
  per   gate
  show  spread(took) at 200ms, 0.8, 3
}
deliver archive {
  on     gates
  to     files "/archive/{host}/{source}/{date}.log" as json zstd by arrival new file after 1h, 5000 entries, 10 MB
  begin  24h ago
}
deliver upstream {
  on     all
  where  level >= notice
  to     syslog tls "collector:6514" trust "/etc/ca.pem"
  buffer at most 2 GiB, 100000 entries
}
deliver live { to nats "logs.{gate}" at "nats://broker:4222" }
deliver far { to otlp "https://far.gullhaven.example:4318" }
`

// What reports, measures and deliveries say is read as it is meant, and formatting says the same.
func TestOutIsRead(t *testing.T) {
	f := Parse("s", []byte(outSettings))
	formed := f.Format()
	assert.Equal(t, formed, Parse("s", []byte(formed)).Format())
	for _, text := range []string{outSettings, formed} {
		s, ds := Check([]*File{Parse("s", []byte(text))}, Env{ErrorsOnly: true})
		require.False(t, Errors(ds), "%v", ds)
		assert.Equal(t, Measures{"127.0.0.1:7424", "http://collector.gullhaven.example:4318", 30 * time.Second, 20000},
			s.Measures)
		assert.Equal(t, Stays{Alerts: 180 * Day, Results: 90 * Day}, s.Stays)
		assert.EqualValues(t, 2<<30, s.AtMost)
		r := s.Report("monday-gates")
		require.NotNil(t, r)
		assert.Equal(t, []string{"alerts-by-rule", Handover}, r.Asks)
		assert.Equal(t, "Monday at 07:00", r.Every.String())
		assert.Equal(t, "last week", r.Covers.Named)
		assert.Equal(t, []string{"pdf", "csv"}, r.Forms())
		assert.True(t, r.Skip)
		assert.Equal(t, 4, r.Results())
		m := s.Counts[0]
		assert.Equal(t, []float64{0.2, 0.8, 3}, m.Bounds)
		assert.True(t, m.Seconds)
		assert.Equal(t, Target{Kind: "files", Path: "/archive/{host}/{source}/{date}.log", As: "json", Packed: true,
			Arrival: true, NewAfter: time.Hour, NewEntries: 5000, NewSize: 10_000_000}, s.Deliver("archive").To)
		assert.Equal(t, BeginAgo, s.Deliver("archive").Begin.How)
		up := s.Deliver("upstream")
		assert.Equal(t, Target{Kind: "syslog", Proto: "tls", Address: "collector:6514", Trust: "/etc/ca.pem"}, up.To)
		assert.EqualValues(t, 2<<30, up.Waiting())
		assert.EqualValues(t, 100000, up.Entries)
		assert.Equal(t, "nats logs.{gate} at nats://broker:4222", s.Deliver("live").To.String())
		assert.Equal(t, "otlp https://far.gullhaven.example:4318", s.Deliver("far").To.String())
	}
}

// One mistake gives one message, which names it.
func TestOutIsRefused(t *testing.T) {
	gates := "source gates {\n files \"/var/log/gates/*.log\"\n layout gate-line\n}\nlayout gate-line {\n pattern " +
		"/^(?<at>\\S+) (?<gate>\\S+) (?<text>.*)$/\n time at rfc3339\n}\n" +
		"settings { measures listen \"127.0.0.1:7424\" }\n"
	for text, code := range map[string]string{
		`report r { note "nothing" }`:                                            "incomplete",
		"report r {\n ask nobody\n}":                                             "unknown-name",
		"report r {\n ask handover\n every mon at 25:00\n write \"/x\"\n}":       "bad-time",
		"report r {\n ask handover\n every 7h\n write \"/x\"\n}":                 "bad-duration",
		"report r {\n ask handover\n every month on 32\n write \"/x\"\n}":        "bad-number",
		"report r {\n ask handover\n as word\n}":                                 "unknown-word",
		"report r {\n ask handover\n write \"x\"\n}":                             "relative-path",
		"report r {\n ask handover\n every day at 07:00\n tell nobody\n}":        "unknown-name",
		"measure m { on gates }":                                                 "incomplete",
		"measure m {\n on gates\n show avg(gate)\n}":                             "syntax",
		"measure m {\n on gates\n show count, sum(gate)\n}":                      "syntax",
		"measure m {\n on gates\n show sum(weight)\n}":                           "unknown-field",
		"measure m {\n on gates\n show spread(gate) at 3, 2\n}":                  "bad-value",
		"measure m {\n on gates\n per text\n show count\n}":                      "group-an-entry",
		"measure dimlantern-x {\n on gates\n show count\n}":                      "bad-name",
		"measure a {\n on gates\n show count\n}\nmeasure a_total { show count }": "same-name",
		"deliver d { on gates }":                                                 "incomplete",
		"deliver d {\n on locks\n to otlp \"http://h:4318\"\n}":                  "unknown-name",
		"deliver d {\n to files \"/x/../{host}\"\n}":                             "bad-path",
		"deliver d {\n on gates\n to files \"/x/{ship}\"\n}":                     "unknown-field",
		"deliver d {\n to syslog udp \"h:514\" trust \"/x\"\n}":                  "does-not-apply",
		"deliver d {\n to files \"/var/log/gates/{date}.log\"\n}":                "reads-itself",
		"deliver d {\n to files \"/var/log/{gate}/x.log\"\n}":                    "reads-itself",
		"deliver d {\n to nats \"a.b\" at \"http://h\"\n}":                       "bad-address",
		"settings { keep alerts 1h }":                                            "bad-duration",
		"settings { measures listen \"here\" }":                                  "bad-address",
	} {
		_, ds := Check([]*File{Parse("s", []byte(gates+text))}, Env{})
		var codes []string
		for _, d := range ds {
			if d.Weight != Note {
				codes = append(codes, d.Code)
			}
		}
		assert.Equal(t, []string{code}, codes, "%s\n%v", text, ds)
	}
}

// A schedule is due at the minutes at which the clocks show its time: once a day, also where they are
// set on or back.
func TestScheduleEqualsTheClockOnTheWall(t *testing.T) {
	zones := []string{"Europe/Dublin", "Australia/Lord_Howe", "America/Havana", "UTC"}
	rapid.Check(t, func(t *rapid.T) {
		zone, err := time.LoadLocation(rapid.SampledFrom(zones).Draw(t, "zone"))
		if err != nil {
			t.Skip(err)
		}
		s := Schedule{At: time.Duration(rapid.IntRange(0, 24*60-1).Draw(t, "at")) * time.Minute}
		switch rapid.IntRange(0, 3).Draw(t, "kind") {
		case 0:
			s.Days = Days(rapid.IntRange(1, 127).Draw(t, "days"))
		case 1:
			s.Month = rapid.IntRange(1, 31).Draw(t, "day of month")
		case 2:
			s.D = rapid.SampledFrom([]time.Duration{time.Hour, 6 * time.Hour, 30 * time.Minute}).Draw(t, "d")
		}
		days := rapid.SampledFrom([]string{"2026-03-28", "2026-10-24", "2026-04-04", "2026-10-03",
			"2026-11-01", "2026-03-07", "2028-02-28", "2026-07-30"}).Draw(t, "near")
		from, _ := time.ParseInLocation(time.DateOnly, days, zone)
		from = from.Add(time.Duration(rapid.IntRange(-3000, 3000).Draw(t, "minutes")) * time.Minute)
		got := s.Next(entry.Of(from), zone)
		require.Equal(t, slowlyNext(s, from, zone), got.Time().In(zone), "%+v after %s", s, from)
	})
}

// slowlyNext looks at each minute: due is the first of a day that shows the time, or a later one.
func slowlyNext(s Schedule, after time.Time, zone *time.Location) time.Time {
	clock := func(u time.Time) time.Duration {
		return time.Duration(u.Hour())*time.Hour + time.Duration(u.Minute())*time.Minute
	}
	begin := time.Date(after.Year(), after.Month(), after.Day()-1, 0, 0, 0, 0, time.UTC)
	for d := begin; ; d = d.AddDate(0, 0, 1) {
		last := d.AddDate(0, 0, 32-d.Day()).AddDate(0, 0, -d.AddDate(0, 0, 32-d.Day()).Day()).Day()
		if !s.Days.Has(d.Weekday()) || s.Month > 0 && d.Day() != min(s.Month, last) {
			continue
		}
		times := []time.Duration{s.At}
		if s.D > 0 {
			times = nil
			for t := s.At % s.D; t < Day; t += s.D {
				times = append(times, t)
			}
		}
		for _, want := range times {
			for u := d.Add(-15 * time.Hour).In(zone); ; u = u.Add(time.Minute) {
				on := time.Date(u.Year(), u.Month(), u.Day(), 0, 0, 0, 0, time.UTC)
				if on.Before(d) || on.Equal(d) && clock(u) < want {
					continue
				}
				if u.After(after) {
					return u
				}
				break
			}
		}
	}
}
