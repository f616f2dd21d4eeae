package layout

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Where several keys of an entry become the same field, the one that is written so counts,
// else the first; of a key that comes twice, the last.
func TestKeysThatBecomeTheSame(t *testing.T) {
	for _, c := range []struct {
		format, line string
		want         map[string]string
	}{
		{"json", `{"a":"1","a":"2"}`, map[string]string{"a": "2"}},
		{"json", `{"@a":"1","a":"2"}`, map[string]string{"a": "2"}},
		{"json", `{"a":"1","@a":"2"}`, map[string]string{"a": "1"}},
		{"json", `{"@a":"1","!a":"2"}`, map[string]string{"a": "1"}},
		{"json", `{"@a":"1","!a":"2","@a":"3"}`, map[string]string{"a": "3"}},
		{"json", `{"@a":"1","a":"2","@a":"3"}`, map[string]string{"a": "2"}},
		{"json", `{"a":"1","\u0061":"2"}`, map[string]string{"a": "2"}},
		{"json", `{"x":{"a":"1"},"x.a":"2"}`, map[string]string{"x.a": "2"}},
		{"json", `{"a":"1","a":null}`, map[string]string{"a": ""}},
		{"logfmt", `a=1 a=2`, map[string]string{"a": "2"}},
		{"logfmt", `@a=1 a=2 @a=3`, map[string]string{"a": "2"}},
		{"logfmt", `@a=1 !a=2`, map[string]string{"a": "1"}},
		{"logfmt", `a=1 a`, map[string]string{"a": "true"}},
		{"logfmt", `a=1 a=""`, map[string]string{"a": ""}},
	} {
		d := &Divider{Layout: Compile((&lang.Settings{}).Layout(c.format), time.UTC, nil)}
		for range 2 { // the second time by what is known of its keys
			x := d.Divide([]byte(c.line), 0)
			require.True(t, x.Fits, c.line)
			got := map[string]string{}
			for _, f := range x.Fields {
				_, twice := got[f.Name]
				assert.False(t, twice, "%s has %s twice", c.line, f.Name)
				got[f.Name] = f.Value
			}
			assert.Equal(t, c.want, got, c.line)
		}
	}
}

// An object of any members, written in any way, has its time read as dividing it finds it,
// and so have many of them in a row, whatever is between them.
func TestTimesOfObjectsInARow(t *testing.T) {
	settings, ds := lang.Check([]*lang.File{lang.Parse("x", []byte("layout j {\n  json\n  time ts like "+
		"\"2026-11-24T05:32:28.114Z\"\n}\n"))}, lang.Env{})
	require.False(t, lang.Errors(ds), "%v", ds)
	seen := 0
	rapid.Check(t, func(t *rapid.T) {
		names := []string{rapid.SampledFrom([]string{"j", "json"}).Draw(t, "layout")}
		d := &Divider{Layout: Compile(settings.Layout(names[0]), time.UTC, nil)}
		each := &Divider{Layout: d.Layout}
		at := time.Date(2026, 11, 24, 5, 10, 0, 0, time.UTC)
		first := rapid.Bool().Draw(t, "time in front")
		var slab strings.Builder
		var want []entry.Instant
		for range rapid.IntRange(5, 40).Draw(t, "lines") {
			at = at.Add(time.Duration(rapid.IntRange(0, 400).Draw(t, "ms")) * time.Millisecond)
			stamp := fmt.Sprintf(`"ts":"%s"`, at.Format("2006-01-02T15:04:05.000Z"))
			var members []string
			for range rapid.IntRange(0, 4).Draw(t, "members") {
				k := rapid.SampledFrom([]string{"msg", "level", "n", "a\"b", "tsx", "xts", "at"}).Draw(t, "key")
				v, _ := json.Marshal(rapid.OneOf(rapid.StringMatching(`[a-z "\\,:{}]{0,12}`),
					rapid.Just(`"ts":"2026-11-24T09:00:00.000Z"`), rapid.Just("é\u2028")).Draw(t, "value"))
				key, _ := json.Marshal(k)
				members = append(members, string(key)+":"+string(v))
			}
			place := rapid.IntRange(0, len(members)).Draw(t, "place")
			if first {
				place = 0
			}
			members = append(members[:place:place], append([]string{stamp}, members[place:]...)...)
			line := "{" + strings.Join(members, ",") + "}"
			x := each.Divide([]byte(line), 0)
			require.True(t, x.Fits && x.Timed, line)
			want = append(want, x.At)
			slab.WriteString(line + "\n")
		}
		b := []byte(slab.String())
		for i, from := 0, 0; from < len(b); {
			r := d.GlanceOn(b, from, len(b), 1000)
			top := entry.None
			for _, w := range want[i : i+r.Lines] {
				top = entry.Later(top, w)
				require.LessOrEqual(t, r.Low, w)
			}
			seen += r.Lines
			if r.Lines > 0 {
				require.Equal(t, top, r.Top)
				i, from = i+r.Lines, r.Next
				continue
			}
			end := from + strings.IndexByte(slab.String()[from:], '\n')
			got, ok, sure := d.Glance(b[from:end], 0)
			if sure {
				require.True(t, ok)
				require.Equal(t, want[i], got)
			}
			d.Divide(b[from:end], 0)
			i, from = i+1, end+1
		}
	})
	assert.Positive(t, seen)
}
