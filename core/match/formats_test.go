package match

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"dimlantern/core/verdict"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
)

// In the open formats as well, looking at few lines finds what looking at each line finds.
func TestFormatsEqualEachLine(t *testing.T) {
	forms := []struct{ layout, time string }{{"syslog", "Jan _2 15:04:05"},
		{"syslog", "2006-01-02T15:04:05.000Z07:00"}, {"journal", ""}, {"j", "2006-01-02T15:04:05Z07:00"},
		{"lf", "2006-01-02T15:04:05Z07:00"}, {"clf", "02/Jan/2006:15:04:05 -0700"}}
	lines := map[string][]string{
		"syslog": {"%s pump-03 pumpd[418]: %s", "<34>%s pump-03 pumpd: %s",
			"<3>1 %s pump-03 pumpd 418 low [x a=\"%s\"] all is well", "<34>1 %s pump-03 pumpd - - - %s", "%s: %s",
			"%.0s%s"},
		"journal": {`{"__REALTIME_TIMESTAMP":"1795498348%d","MESSAGE":"%s","PRIORITY":"3","_PID":"7",` +
			`"_HOSTNAME":"pump-03"}`, `{"__REALTIME_TIMESTAMP":"1795498349%d","MESSAGE":[108,111,119],"X":"%s"}`,
			`{"MESSAGE":["%[2]s","and more"]}`, `{"MESSAGE":"\u006cow"}`, `{"MESSAGE":7}`, `{"X":%d,"MESSAGE":"%s"`},
		"j": {`{"at":"%s","text":"%s","level":"error"}`, `{"text":"%[2]s","at":"%[1]s","x":{"a":"low"}}`,
			`{"at":"%s","text":"\u006cow"}`, `{"at":"%s"`, `%.0s%s`},
		"lf":  {`at=%s text="%s"`, `a="%[2]s" at="%[1]s"`, `at=%s text=low level=error`, `%.0s%s`},
		"clf": {`10.0.0.7 - - [%s] "GET /%s HTTP/1.1" 200 7`, `10.0.0.7 - low [%s] "%s" 500 -`, `%.0s%s`},
	}
	texts := []string{"low", "pressure low (7)", "pump 7 is red", "all is well", "LOW", "Überlauf", "7", "a/b?c=low",
		"", `in \"low\"`}
	problems := []string{`"low"`, `/pressure low \((?<n>\d)/`, `/low/i`, `text ~ /pump (?<n>\d)/`, `level >= error`,
		`a == "low"`, `path ~ /low/`, `msgid == "low"`, `pid == 7`, `program == "pumpd"`, `account == "low"`,
		`facility == "auth"`, `/Über/`, `status >= 500`, `x-a ~ /lo./`}
	rapid.Check(t, func(t *rapid.T) {
		form := rapid.SampledFrom(forms).Draw(t, "form")
		src := "source s {\n files \"/x\"\n layout " + form.layout +
			"\n}\nlayout j {\n json\n time at like \"2026-11-24T05:32:28Z\"\n}\nlayout lf {\n logfmt\n time at " +
			"like \"2026-11-24T05:32:28Z\"\n}\n"
		for i := range rapid.IntRange(1, 6).Draw(t, "rules") {
			src += fmt.Sprintf("rule r%d {\n problem %s\n per host\n raise error\n clear by hand\n}\n", i,
				rapid.SampledFrom(problems).Draw(t, "problem"))
		}
		s, ds := lang.Check([]*lang.File{lang.Parse("t", []byte(src))}, lang.Env{Time: layout.CheckTime})
		for _, d := range ds {
			if d.Weight == lang.Err {
				t.Skip(d.String()) // there is no such field
			}
		}
		at := time.Date(2026, 11, 24, 5, 58, 0, 0, time.UTC)
		var slabs []string
		for range rapid.IntRange(1, 3).Draw(t, "slabs") {
			slab := ""
			for range rapid.IntRange(1, 20).Draw(t, "lines") {
				at = at.Add(time.Duration(rapid.IntRange(-1000, 9000).Draw(t, "later")) * time.Millisecond)
				how := rapid.SampledFrom(lines[form.layout]).Draw(t, "how")
				var when any = at.Format(form.time)
				if form.layout == "journal" {
					when = rapid.IntRange(100_000, 999_999).Draw(t, "micro")
				}
				line := how
				if strings.Contains(how, "%") {
					line = fmt.Sprintf(how, when, rapid.SampledFrom(texts).Draw(t, "text"))
					line, _, _ = strings.Cut(line, "%!(EXTRA")
				}
				slab += line + "\n"
			}
			slabs = append(slabs, slab)
		}
		play := func(each bool) (out []string) {
			p := NewPlan(s, s.Sources[0], s.Rules, time.UTC)
			if each {
				p.search, p.chosen = newSearcher(nil, nil), mostHeard
				for i, r := range p.rules {
					for k, x := range conditions(r.rule) {
						if x != nil {
							p.always = append(p.always, kinds*i+k)
						}
					}
				}
			}
			r := NewReader(p, "h:/x", "h", false)
			r.Near = entry.Of(at)
			base := int64(0)
			for _, slab := range slabs {
				r.Scan([]byte(slab), base, 0, func(j *verdict.Judged) {
					for _, v := range j.Verdicts {
						out = append(out, fmt.Sprintf("%q %d %s %s %s %q", j.Entry.Raw, j.Entry.Offset, j.Entry.At,
							j.Reached, s.Rules[v.Rule].Name, v.Key))
					}
				}, nil)
				base += int64(len(slab))
			}
			return append(out, fmt.Sprint(r.Reached, r.Last))
		}
		require.Equal(t, play(true), play(false), "%s\n%q", src, slabs)
	})
}

// What stands in every line is not what lines are found by, where a pattern needs something
// else as well; and where little was heard at first, the choice is made anew.
func TestRareLiteralsAreChosen(t *testing.T) {
	src := "source s {\n files \"/x\"\n}\n"
	for i := range 20 {
		src += fmt.Sprintf("rule r%02d {\n problem /word%02d \\d+, station \\d+ reports all else/ and /pump/\n "+
			"raise error\n clear by hand\n}\n", i, i)
	}
	s, ds := lang.Check([]*lang.File{lang.Parse("t", []byte(src))}, lang.Env{Time: layout.CheckTime})
	require.False(t, lang.Errors(ds), "%v", ds)
	p := NewPlan(s, s.Sources[0], s.Rules, time.UTC)
	usual := strings.Repeat("pump 7 answered late, station 9 reports all else as usual\n", 100)
	found := func() int { return len(p.search.search([]byte(usual), nil)) }
	r := NewReader(p, "h:/x", "h", true)
	r.Scan([]byte("hello\n"), 0, 0, func(*verdict.Judged) {}, nil)
	require.Positive(t, found(), "nothing told the literals apart yet")
	r.Scan([]byte(usual), 6, 0, func(*verdict.Judged) {}, nil)
	require.Zero(t, found())
	hits := 0
	r.Scan([]byte(usual+"pump: word07 1, station 9 reports all else\n"), 6, 0, func(*verdict.Judged) { hits++ }, nil)
	require.Equal(t, 1, hits)
}
