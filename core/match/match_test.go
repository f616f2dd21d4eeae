package match_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"dimlantern/core/verdict"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
)

func settings(t require.TestingT, src string) *lang.Settings {
	s, ds := lang.Check([]*lang.File{lang.Parse("t", []byte(src))}, lang.Env{Time: layout.CheckTime})
	for _, d := range ds {
		require.NotEqual(t, lang.Err, d.Weight, "%s\n%s", d, src)
	}
	return s
}

// Every comparison that the language has, and what it answers.
func TestEval(t *testing.T) {
	e := &entry.Entry{Host: "pump-03", Origin: "pump-03:/log", Source: "s", Raw: "Überlauf at 24041, pump 7 low",
		Fits: true,
		At:   entry.Of(time.Date(2026, 11, 24, 5, 0, 0, 0, time.UTC)),
		Fields: []entry.Field{{Name: "n", Value: "404"}, {Name: "d", Value: "2.50"}, {Name: "level", Value: "WARN"},
			{Name: "empty", Value: ""},
			{Name: "share", Value: "5%"}, {Name: "size", Value: "12kB"}, {Name: "took", Value: "1m30s"},
			{Name: "ip", Value: "10.1.2.3"},
			{Name: "word", Value: "abc"}, {Name: "exp", Value: "1e3"}, {Name: "v6", Value: "fe80::1"},
			{Name: "big", Value: "100000000000000000001"}}}
	for x, want := range map[string]bool{
		`n == 404`: true, `n == 404.0`: true, `n != 404`: false, `n > 403.9`: true, `n == "404"`: true,
		`n == "404.0"`: false,
		`d == 2.5`:     true, `d == "2.5"`: false, `d >= 2.50`: true, `word == 1`: false, `word != 1`: true,
		`word < 1`:    false,
		`empty == ""`: false, `empty != "x"`: false, `empty !~ /x/`: false, `not empty == "x"`: true,
		`has empty`: false, `lacks empty`: true,
		`gone != 1`: false, `lacks gone`: true, `share == 5`: true, `share >= 5%`: true, `size == 12000`: true,
		`size < 12 KiB`: true,
		`took > 1m`:     true, `took == 90s`: true, `took == 90`: false, `took != 90`: true, `n > 1m`: false,
		`n != 1m`:          true,
		`level >= warning`: true, `level == warn`: true, `level < error`: true, `word != error`: true,
		`word >= debug`:      false,
		`n in (1, 400..409)`: true, `n in (405..409)`: false, `word in ("x", "abc")`: true,
		`ip in (10.0.0.0/8)`: true, `ip in (10.1.2.3)`: true,
		`ip in (192.168.0.0/16)`: false, `word in (10.0.0.0/8)`: false, `v6 in (fe80::/10)`: true,
		`ip == 10.1.2.3`: true, `word != 10.1.2.3`: true,
		`exp == 1000`: true, `big > 100000000000000000000`: true, `big == 100000000000000000001`: true,
		`word > "abb"`: true,
		`"404"`:        false, `"24041"`: true, `"lauf"`: false, `"Überlauf"`: true, `"überlauf"`: false,
		`"7 low"`:  true,
		`", pump"`: true, `"pump 7 lo"`: false,
		`/überlauf/i`: true, `text ~ /pump (?<p>\d)/ and p == 7`: true, `/pump (?<n>\d)/ and n == 7`: true,
		`n == 404 and /pump (?<n>\d)/ and n == 404`:   false,
		`(/pump (?<n>\d)/ and "nowhere") or n == 404`: true, `not /pump (?<n>\d)/ or n == 404`: true,
		`fits == true`: true, `host == "pump-03"`: true,
		`at >= 2026-11-24T05:00:00Z`: true, `at < 2026-11-24T05:00:00Z`: false,
		`at == 2026-11-24T06:00:00+01:00`:             true,
		`n == 404 and (word == "x" or word == "abc")`: true, `word ~ /^ab/`: true, `word !~ /^ab/`: false,
	} {
		s := settings(t, "rule r {\n problem "+x+"\n raise error\n clear by hand\n}\n")
		assert.Equal(t, want, match.Eval(s.Rules[0].Problem, &match.Subject{Entry: e}), x)
	}
}

const layoutSrc = "source s {\n files \"/x\"\n layout l\n}\nlayout l {\n pattern /^(?<at>\\S+ \\S+) " +
	"(?<host>\\w+): (?<text>.*)$/\n time at like \"2026-11-24 05:32:28\"\n}\n"

var problems = []string{`/pump (?<k>\d+): pressure low/`, `/(?<k>red|green) lamp (out|off)/`, `"low"`,
	`/(?<k>\d)\d* bar/`, `"lamp" and not "red"`, `/PRESSURE/i`, `/k(i)ss/i`, `/[ab]c/`, `text ~ /^pump/`,
	`host == "x"`, `"ab" or "xy"`}
var texts = []string{"pump 7: pressure low", "pump 12: pressure low (1.2 bar)", "red lamp out", "green lamp off",
	"low", "slow", "pressure", "Pressure", "\u212aiss", "kiss", "ac", "nothing", "ab", "", "xy ab low", "lamp"}

// The matcher, which searches for literals and looks at few lines, finds what a
// plain look at every line finds, however the lines are cut into slabs.
func TestReaderEqualsPlainLook(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		src, zones := layoutSrc, []string{""}
		if rapid.Bool().Draw(t, "with a zone") {
			src, zones = strings.Replace(src, `05:32:28"`, `05:32:28Z"`, 1),
				[]string{"Z", "Z", "Z", "+01:00", "", "Zx"}
		}
		n := rapid.IntRange(1, 12).Draw(t, "rules")
		for i := range n {
			src += fmt.Sprintf("rule r%02d {\n problem %s\n per k\n raise error\n", i,
				rapid.SampledFrom(problems).Draw(t, "problem"))
			if rapid.Bool().Draw(t, "recovers") {
				src += " recovery " + rapid.SampledFrom(problems).Draw(t, "recovery") + "\n"
			} else {
				src += " clear by hand\n"
			}
			if rapid.Bool().Draw(t, "ignores") {
				src += " ignore \"bar\"\n"
			}
			src += "}\n"
		}
		s := settings(t, src)
		var lines []string
		now := time.Date(2026, 11, 24, 5, 0, 0, 0, time.UTC)
		for range rapid.IntRange(1, 30).Draw(t, "lines") {
			if rapid.Bool().Draw(t, "another second") {
				now = now.Add(time.Duration(rapid.IntRange(-5, 9).Draw(t, "later")) * time.Second)
			}
			text := rapid.SampledFrom(texts).Draw(t, "text")
			l := now.Format("2006-01-02 15:04:05") +
				rapid.SampledFrom([]string{"", ".5", ".123", ",999", ".123456789", ".1234567899", ".x", ".12a",
					".-14"}).Draw(t, "decimals") + rapid.SampledFrom(zones).Draw(t, "zone") + " " +
				rapid.SampledFrom([]string{"x", "y"}).Draw(t, "host") + ": " + text
			switch rapid.IntRange(0, 9).Draw(t, "form") {
			case 0:
				l = text // it does not fit
			case 1:
				l += "\r"
			case 2:
				l = "2099-99-99 00:00:00 x: " + text // its time is unreadable
			}
			lines = append(lines, l)
		}
		whole := read(s, []string{strings.Join(lines, "\n") + "\n"})
		require.Equal(t, plain(s, lines), whole, src)
		var slabs []string
		for rest := lines; len(rest) > 0; {
			k := rapid.IntRange(1, len(rest)).Draw(t, "slab")
			slabs = append(slabs, strings.Join(rest[:k], "\n")+"\n")
			rest = rest[k:]
		}
		if slices.ContainsFunc(timesOf(s, lines[:strings.Count(slabs[0], "\n")]),
			func(t entry.Instant) bool { return t != entry.None }) {
			require.Equal(t, whole, read(s, slabs), "%s\n%q", src, slabs)
		}
	})
}

func read(s *lang.Settings, slabs []string) []string {
	p := match.NewPlan(s, s.Sources[0], s.Rules, time.UTC)
	r := match.NewReader(p, "h:/x", "h", false)
	var out []string
	base := int64(0)
	for _, slab := range slabs {
		r.Scan([]byte(slab), base, 0, func(j *verdict.Judged) { out = append(out, words(s, j)) }, nil)
		base += int64(len(slab))
	}
	return append(out, fmt.Sprint(r.Reached))
}

func words(s *lang.Settings, j *verdict.Judged) string {
	out := fmt.Sprintf("%q %d %d %d %s %v", j.Entry.Raw, j.Entry.Offset, j.Entry.At, j.Reached, j.Entry.Host,
		j.Entry.Fits)
	for _, v := range j.Verdicts {
		out += fmt.Sprintf(" %s %v %q", s.Rules[v.Rule].Name, v.Recovery, v.Key)
	}
	return out
}

// timesOf are the times that lines give themselves; None is none.
func timesOf(s *lang.Settings, lines []string) []entry.Instant {
	re := s.Layouts[0].Patterns[0].Re()
	var times []entry.Instant
	for _, l := range lines {
		own := entry.None
		if m := re.FindStringSubmatch(strings.TrimSuffix(l, "\r")); m != nil {
			value, form, zone := m[1], "2006-01-02 15:04:05", ""
			if strings.HasSuffix(s.Layouts[0].Time.Like, "Z") {
				if at := strings.LastIndexAny(value, "Z+"); at > 0 {
					value, zone = value[:at], value[at:]
				}
				form += "Z07:00"
			}
			if len(value) > 29 { // decimals past the ninth are cut off
				value = value[:29]
			}
			if x, err := time.Parse(form, value+zone); err == nil {
				own = entry.Of(x)
			}
		}
		times = append(times, own)
	}
	return times
}

// plain looks at every line with every rule.
func plain(s *lang.Settings, lines []string) []string {
	re := s.Layouts[0].Patterns[0].Re()
	var out []string
	at, reached, host := entry.None, entry.None, ""
	times := timesOf(s, lines)
	for _, x := range times { // those before the first take the first
		if x != entry.None {
			at = x
			break
		}
	}
	if at == entry.None {
		at = 0
	}
	offset := int64(0)
	for i, l := range lines {
		raw := strings.TrimSuffix(l, "\r")
		e := &entry.Entry{Source: "s", Origin: "h:/x", Host: "h", Raw: raw, Offset: offset}
		offset += int64(len(l)) + 1
		if m := re.FindStringSubmatch(raw); m != nil {
			e.Fits = true
			host = m[2]
			e.Fields = []entry.Field{{Name: "at", Value: m[1]}, {Name: "host", Value: m[2]},
				{Name: "text", Value: m[3]}}
		} else if host != "" {
			e.Host = host
		}
		if times[i] != entry.None {
			at = times[i]
		}
		e.At = at
		reached = entry.Later(reached, at)
		j := &verdict.Judged{Entry: e, Reached: reached}
		for k, r := range s.Rules {
			if v, ok := match.Judge(r, e, match.MayAll, nil); ok {
				v.Rule = k
				j.Verdicts = append(j.Verdicts, v)
			}
		}
		if len(j.Verdicts) > 0 {
			out = append(out, words(s, j))
		}
	}
	return append(out, fmt.Sprint(reached))
}

// Many rules are found by their literals alone, whatever their lengths.
func TestManyLiterals(t *testing.T) {
	var src, log strings.Builder
	for i := range 300 {
		word := fmt.Sprintf("%c%c%s%d", 'a'+i%26, 'a'+i/26, strings.Repeat("z", i%12), i)
		fmt.Fprintf(&src, "rule r%03d {\n problem \"%s\"\n per nothing\n raise error\n clear by hand\n}\n", i, word)
		fmt.Fprintf(&log, "some other words %s and more of them\n", word)
	}
	s := settings(t, src.String())
	p := match.NewPlan(s, nil, s.Rules, time.UTC)
	r := match.NewReader(p, "h:/x", "h", false)
	seen := map[int]int{}
	r.Scan([]byte(log.String()), 0, 0, func(j *verdict.Judged) {
		for _, v := range j.Verdicts {
			seen[v.Rule]++
		}
	}, nil)
	require.Len(t, seen, 300)
	for k, n := range seen {
		require.Equal(t, 1, n, s.Rules[k].Name)
	}
}

// An entry that fits nothing has the host of the one before, as that may be shown: what is carried from text
// to text holds nothing that is masked.
func TestMaskedHostsAreNotCarried(t *testing.T) {
	s := settings(t, `source gates { files "/log"
		layout l }
	layout l { pattern /^(?<host>\S+) says: (?<text>.*)$/
		mask host }`)
	r := match.NewTaker(match.NewTaking(s, s.Sources[0], nil, nil, time.UTC), "o", "host-a")
	var hosts []string
	r.Take = func(e *entry.Entry, _ int64) {
		host, _ := e.Get("host")
		hosts = append(hosts, host)
	}
	r.Scan([]byte("lock-7 says: open\nno entry of this layout\n"), 0, 0, nil, nil)
	assert.NotContains(t, r.LastHost, "lock-7")
	r.Scan([]byte("another one\n"), 42, 0, nil, nil)
	require.Len(t, hosts, 3)
	assert.NotEmpty(t, hosts[0])
	assert.Equal(t, []string{hosts[0], hosts[0], hosts[0]}, hosts)
	assert.NotContains(t, hosts[0], "lock-7")
}
