package match

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"dimlantern/core/verdict"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
)

// jsonForm is a time in an entry of JSON.
const jsonForm = `{"at":"2006-01-02T15:04:05Z07:00","text":"low`

// Times that are known already change nothing: the same entries are judged, at the same
// times, after the same latest time, however the text is cut into slabs.
func TestKnownTimesChangeNothing(t *testing.T) {
	was := knownSize
	defer func() { knownSize = was }()
	files := map[string]*lang.Settings{}
	forms := []string{"2006-01-02 15:04:05.000", "2006-01-02T15:04:05Z07:00", "01-02 15:04:05", jsonForm,
		"2006-01-02 15:04:05"}
	for _, form := range forms {
		example := time.Date(2026, 11, 24, 5, 32, 28, 114e6, time.UTC).Format(form)
		divides := "pattern /^(?<at>\\S+" + strings.Repeat(` +\S+`,
			strings.Count(strings.Join(strings.Fields(form), " "), " ")) + ") (?<text>.*)$/"
		switch form {
		case jsonForm:
			example, divides = "2026-11-24T05:32:28Z", "json"
		case "2006-01-02 15:04:05":
			divides += "\n  pattern /^(?<text>\\w+)$/"
		}
		s, ds := lang.Check([]*lang.File{lang.Parse("t", []byte("source app {\n  files \"/a\"\n  layout "+
			"l\n}\nlayout l {\n  "+divides+"\n  time at like \""+example+
			"\"\n}\nrule r {\n  problem \"low\"\n  raise warning\n  clear by hand\n}\n"))},
			lang.Env{Time: layout.CheckTime})
		for _, d := range ds {
			if d.Weight == lang.Err {
				t.Fatal(d.String())
			}
		}
		files[form] = s
	}
	had := map[string]bool{}
	rapid.Check(t, func(t *rapid.T) {
		knownSize = rapid.SampledFrom([]int{40, 100, 300}).Draw(t, "size")
		form := rapid.SampledFrom(forms).Draw(t, "form")
		s := files[form]
		var b strings.Builder
		at := time.Date(2026, 11, 24, 5, 0, 0, 0, time.UTC)
		for range rapid.IntRange(1, 80).Draw(t, "lines") {
			at = at.Add(time.Duration(rapid.SampledFrom([]int{0, 0, 3, 400, 1000, 70_000, -5000}).Draw(t,
				"gap")) * time.Millisecond)
			if rapid.IntRange(0, 6).Draw(t, "timed") > 0 {
				b.WriteString(at.Format(form) + " ")
			}
			if form == jsonForm {
				b.WriteString("\"}\n")
			}
			b.WriteString(rapid.SampledFrom([]string{"all is well", "low", "x", ""}).Draw(t, "text") + "\n")
		}
		data := []byte(b.String())
		from := entry.Of(time.Date(2026, 11, 24, 5, 0, rapid.IntRange(-10, 20).Draw(t, "from"), 0, time.UTC))
		to := entry.Of(time.Date(2026, 11, 24, 5, rapid.IntRange(0, 10).Draw(t, "to"), 0, 0, time.UTC))
		plan := NewPlan(s, s.Source("app"), s.Rules, time.UTC)
		known := plan.Know(data)
		cuts := rapid.SliceOfN(rapid.IntRange(0, len(data)), 0, 3).Draw(t, "cuts")
		var within []bool // of each slab, whether all of its lines do lie within
		play := func(k *Known) (out []string, sure []bool) {
			r := NewReader(plan, "h:/a", "h", false)
			r.Known, r.Near = k, entry.Of(at)
			for base := 0; base < len(data); {
				end := len(data)
				for _, c := range cuts {
					if c > base && c < end {
						end = c
					}
				}
				if i := strings.IndexByte(string(data[end-1:]), '\n'); i >= 0 {
					end += i
				}
				r.Begin(data[base:end])
				if k == nil {
					all := true
					last := r.Last
					for _, l := range strings.Split(strings.TrimSuffix(string(data[base:end]), "\n"), "\n") {
						if x, _ := plan.Divide(&layout.Divider{Layout: plan.Layout}, []byte(l),
							entry.Of(at)); x.Timed {
							last = x.At
						}
						all = all && last >= from && last < to
					}
					within = append(within, all)
				}
				sure = append(sure, r.Within(data[base:end], int64(base), from, to))
				n := r.Scan(data[base:end], int64(base), 0, func(j *verdict.Judged) {
					out = append(out, fmt.Sprint(j.Entry.Offset, j.Entry.At, j.Reached, j.Entry.Raw))
				}, nil)
				out = append(out, fmt.Sprint(n, r.Reached, r.Last))
				base = end
			}
			return out, sure
		}
		plain, surely := play(nil)
		if known == nil {
			return
		}
		had[form] = true
		quick, also := play(known)
		assert.Equal(t, plain, quick)
		for i, all := range within {
			assert.False(t, (also[i] || surely[i]) && !all, "said to lie within, and does not")
		}
	})
	for _, form := range forms { // a short run draws too few cases to have had each
		assert.True(t, testing.Short() || had[form] || !strings.Contains(form, "2006"), "no times of %s were known",
			form)
	}
}
