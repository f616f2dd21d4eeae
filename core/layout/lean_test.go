package layout

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// layoutOf compiles the layout of a text.
func layoutOf(t require.TestingT, text string) *Layout {
	s, ds := lang.Check([]*lang.File{lang.Parse("x", []byte(text))}, lang.Env{Time: CheckTime})
	require.False(t, lang.Errors(ds), "%v", ds)
	return Compile(s.Layouts[0], time.UTC, nil)
}

// What is taken out of a line leanly is what a division of it gives, however odd the line; and lines as
// usual are taken leanly.
func TestLeanIsDivide(t *testing.T) {
	lock := layoutOf(t, "layout x {\n"+
		`pattern /^(?<at>\S+ \S+) (?<host>\S+) (?<gate>[\w-]*)\[(?<n>[^\]]*)\]: (?<text>.*)$/`+"\n"+
		"time at like \"2026-11-24 05:32:28.114\"\ntype n integer\ntype gate decimal\n}")
	object := layoutOf(t, "layout x { json }")
	lean := 0
	rapid.Check(t, func(t *rapid.T) {
		json := rapid.Bool().Draw(t, "json")
		l := lock
		if json {
			l = object
		}
		d, slow := &Divider{Layout: l, Reuse: true}, &Divider{Layout: l}
		text := !json && rapid.Bool().Draw(t, "text")
		x := d.Lean([]string{"host", "gate", "n"}, text)
		require.NotNil(t, x)
		value := rapid.OneOf(
			rapid.StringMatching(`[a-z0-9 .-]{0,6}`),
			rapid.StringMatching(`[a-z ]{20,70}["\\\x01é]?[a-z ]{0,40}`),
			rapid.StringMatching(`[a-z ]{0,9}["\\x01\x7fé!,:}{]?[a-z ]{0,12}`),
			rapid.SampledFrom([]string{"", "007", "1,5", "-3", "1.50", "0.5", "-0.5",
				"é", "a\\nb", "\xff", "gate-a1", "12", "null", "\t", "true"}),
		)
		type key struct {
			name   string
			quoted bool
		}
		var keys []key // of objects that are written alike
		alike, last := rapid.Bool().Draw(t, "alike"), rapid.Bool().Draw(t, "last")
		comma := rapid.SampledFrom([]string{",", ", "})
		between := comma.Draw(t, "comma")
		for range rapid.IntRange(1, 8).Draw(t, "lines") {
			decimals := rapid.SampledFrom([]string{".114", ".007", ",5", "", ".1234567", ".12345678901", "x"})
			at := fmt.Sprintf("2026-11-24 05:32:%02d", rapid.IntRange(0, 59).Draw(t, "s")) +
				decimals.Draw(t, "decimals")
			var line string
			if json {
				var parts []string
				if !alike || keys == nil {
					keys = []key{}
					for range rapid.IntRange(0, 5).Draw(t, "members") {
						keys = append(keys, key{rapid.SampledFrom([]string{"host", "gate", "n", "Host", "@n", "at",
							"other"}).Draw(t, "key"), rapid.Bool().Draw(t, "quoted")})
					}
					between = comma.Draw(t, "comma")
				}
				for _, k := range keys {
					v := value.Draw(t, "value")
					if k.quoted {
						v = `"` + v + `"`
					}
					parts = append(parts, fmt.Sprintf(`"%s":%s`, k.name, v))
				}
				if alike || rapid.IntRange(0, 2).Draw(t, "whole") > 0 {
					parts = append(
						[]string{`"at":"` + strings.Replace(at, " ", "T", 1) + `Z"`, `"host":"h-1"`, `"gate":"g1"`},
						append(parts, `"n":7`)...)
					if last {
						slices.Reverse(parts)
					}
				}
				line = "{" + strings.Join(parts, between) + "}"
			} else {
				gate := ""
				if rapid.Bool().Draw(t, "gated") {
					gate = " g" + strings.TrimSpace(value.Draw(t, "gate"))
				}
				line = at + " host-a " + strings.TrimSpace(gate) + "[" + value.Draw(t, "n") + "]: " +
					value.Draw(t, "text")
			}
			want := slow.Divide([]byte(line), 0)
			d.Divide([]byte(line), 0)                             // as one that is divided before it
			if n := x.Ahead([]byte(line + "\n{\"at\":")); n > 0 { // as one of a block
				require.Equal(t, len(line)+1, n, line)
			} else if !x.Divide([]byte(line), 0) {
				continue
			}
			lean++
			require.True(t, want.Fits && want.Timed, line)
			require.Equal(t, want.At, x.At, line)
			e := entry.Entry{Raw: want.Line, Fields: want.Fields}
			if text {
				require.Equal(t, e.Text(), string(x.Text), line)
			}
			for i, f := range []string{"host", "gate", "n"} {
				v, _ := e.Get(f)
				require.True(
					t,
					bytes.Equal([]byte(v), x.Values[i]),
					"%s: %s is %q, and %q",
					line,
					f,
					v,
					x.Values[i],
				)
			}
		}
	})
	require.Greater(t, lean, 20)
}

// A line fits a pattern that only the regular expression serves where that says so, and has what every such line has.
func TestWhatALineMustHave(t *testing.T) {
	patterns := []string{`^(?<a>.+) took (?<n>\d+) ms$`, `(?i)^(?<a>.*?) took`, `^(?<a>x+?)( took|took )(?<b>.*)$`,
		`^(?<a>.*)\x{fffd}b`, `^((?<a>ab)|cd) +took`, `^(?<a>.*)ſk(?<b>.*?)$`, `^(?<a>(ab)*)(?<b>took){2}`}
	parts := []string{"ab", "x", " took ", "took", "TOOK", "7 ms", " ", "\xffb", "ſk", "cd ", "sk"}
	fits := 0
	rapid.Check(t, func(t *rapid.T) {
		p := rapid.SampledFrom(patterns).Draw(t, "pattern")
		d := &Divider{Layout: layoutOf(t, "layout x {\n pattern /"+p+"/\n}")}
		line := strings.Join(rapid.SliceOfN(rapid.SampledFrom(parts), 0, 6).Draw(t, "line"), "")
		want := regexp.MustCompile(p).MatchString(line)
		require.Equal(t, want, d.Divide([]byte(line), 0).Fits, "%s on %q", p, line)
		if want {
			fits++
		}
	})
	require.Positive(t, fits)
}
