package layout_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
)

// divider makes a divider of a layout's clauses.
func divider(t require.TestingT, clauses string) *layout.Divider {
	s, ds := lang.Check([]*lang.File{lang.Parse("t", []byte("layout l {\n"+clauses+"\n}\n"))},
		lang.Env{Time: layout.CheckTime})
	require.Empty(t, ds, clauses)
	s.Secret = []byte("a key of the test")
	return &layout.Divider{Layout: layout.Compile(s.Layout("l"), time.UTC, s.Secret)}
}

var noon = entry.Of(time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC))

func told(x layout.Division) string {
	var out []string
	for _, f := range x.Fields {
		out = append(out, f.Name+"="+f.Value)
	}
	s := strings.Join(out, " ")
	if !x.Fits {
		s = "misfit"
	}
	if x.Timed {
		s += " @" + x.At.String()
	}
	for _, m := range x.Misfits {
		s += " !" + m.String()
	}
	return s
}

// Each clause of a layout does what it says, on lines as they are and as they should
// not be.
func TestClauses(t *testing.T) {
	for _, c := range []struct{ clauses, lines, want string }{
		{"pattern /^(?<a>\\d+) (?<b>\\w+)$/\npattern /^(?<b>\\w+)$/", "1 x|x|-", "a=1 b=x|b=x|misfit"},
		{"pattern /^(?<n>\\S+)$/\ntype n integer", "007|-7|n/a", "n=7|n=-7|n=n/a !`n` is not an integer: `n/a`"},
		{"pattern /^(?<n>.+)$/\ntype n decimal", "-4,5 °C|1.234,5|1,234|12kB|87.5%|3 m3|1e3|x1|10.0.0.1",
			"n=-4.5|n=1234.5|n=1,234 !`n` is not a decimal number: `1,234`|n=12kB|n=87.5%|n=3|n=1e3|n=x1 !`n` is " +
				"not a decimal number: `x1`|n=10.0.0.1 !`n` is not a decimal number: `10.0.0.1`"},
		{"pattern /^(?<d>.+)$/\ntype d duration in ms", "1500|2s|00:01:30|1.5 min|soon|2h 5m",
			"d=1s500ms|d=2s|d=1m30s|d=1m30s|d=soon !`d` is not a duration: `soon`|d=2h5m"},
		{"pattern /^(?<a>.+)$/\ntype a address", "0:0::1|10.0.0.0/8|10.1.2|[::1]",
			"a=::1|a=10.0.0.0/8|a=10.1.2 !`a` is not an address: `10.1.2`|a=::1"},
		{"pattern /^(?<b>.+)$/\ntype b boolean", "YES|off|maybe",
			"b=true|b=false|b=maybe !`b` is neither true nor false: `maybe`"},
		{"pattern /^(?<t>.+)$/\ntype t time", "2026-11-24 05:32:28|1795498348|03/04/2026 05:00",
			"t=2026-11-24T05:32:28Z|t=2026-11-24T05:32:28Z|t=03/04/2026 05:00 !`t` is not a time: `03/04/2026 05:00`"},
		{"pattern /^(?<x>\\S+) (?<text>.*)$/\nfind in text /pump (?<pump>\\d+)/\nmap x to host\nset place " +
			"\"{host}, {pump}\"\nlower host", "PUMP-03 pump 7: low|A b",
			"text=pump 7: low pump=7 host=pump-03 place=PUMP-03, 7|text=b host=a place=A, "},
		{"pattern /^(?<d>\\S+) (?<c>\\S+)$/\ntime d, c like \"24.11.2026 05:32\"", "01.02.2026 06:07|x y",
			"d=01.02.2026 c=06:07 @2026-02-01T06:07:00.000Z|d=x c=y !`d, c` is no time as the layout has it: `x y`"},
		{"pattern /^(?<at>.+)$/\ntime at epoch-ms", "1795498348114|x",
			"at=1795498348114 @2026-11-24T05:32:28.114Z|at=x !`at` is no time as the layout has it: `x`"},
		{"pattern /^(?<at>.+)$/\ntime at epoch", "1795498348.5|99",
			"at=1795498348.5 @2026-11-24T05:32:28.500Z|at=99 @1970-01-01T00:01:39.000Z"},
		{"pattern /^(?<at>.+)$/\ntime at strftime \"%d/%b/%y %I:%M:%S %p\"", "24/Nov/26 05:32:28 PM",
			"at=24/Nov/26 05:32:28 PM @2026-11-24T17:32:28.000Z"},
		{"event-xml\nnames event {\n 7 \"a\"\n}", "x", "misfit"},
		{"pattern /^(?<code>\\d+)$/\nnames code {\n 7 \"gate refused\"\n}", "7|8",
			"code=7 code-name=gate refused|code=8"},
		{"delimited \";\" columns a, b, c drop \"'\"", "1;'x';\"a;\"\"b\"\"\"|1;2|1;2;3;|1;2;3;4",
			"a=1 b=x c=a;\"b\"|misfit !it has 2 columns, and the layout 3|a=1 b=2 c=3|misfit !it has 4 columns, " +
				"and the layout 3"},
		{"delimited \",\" columns at, pump header\ntime at like \"2026-11-24 05:32\"",
			"at,pump|2026-11-24 05:32,7|pump,at|8,2026-11-24 05:33|at,pump,bay|2026-11-24 05:34,9,2",
			"| at=2026-11-24 05:32 pump=7 @2026-11-24T05:32:00.000Z|| pump=8 at=2026-11-24 05:33 " +
				"@2026-11-24T05:33:00.000Z|| at=2026-11-24 05:34 pump=9 bay=2 @2026-11-24T05:34:00.000Z"},
		{"csv", "time,who|2026-11-24T05:32:28Z,\"mira, ann\"|x",
			"| time=2026-11-24T05:32:28Z who=mira, ann @2026-11-24T05:32:28.000Z|misfit !it has 1 column, and the " +
				"layout 2"},
		{"w3c", "a b|#Fields: date time c-ip cs(User-Agent)|2026-11-24 05:32:28 10.0.0.1 -|2026-11-24 05:32:28 " +
			"10.0.0.1|#Fields: time x|05:33:00 1|#Date: 2026-11-25 00:00:00|05:34:00 2",
			"misfit !no #Fields line has named the columns yet|| date=2026-11-24 time=05:32:28 c-ip=10.0.0.1 " +
				"@2026-11-24T05:32:28.000Z|misfit !it has 3 columns, and #Fields names 4|| time=05:33:00 x=1|| " +
				"time=05:34:00 x=2 @2026-11-25T05:34:00.000Z"},
		{"json", `{"time":"2026-11-24T05:32:28Z","a":{"b":1,"C d":[1, 2]},"n":null,"x":"\u00e9\n"}|{"a":1} x|[1]|` +
			`{"from":true,"a":1,"a":2}`, "time=2026-11-24T05:32:28Z a.b=1 a.c-d=[1, 2] n= x=é\n " +
			"@2026-11-24T05:32:28.000Z|misfit|misfit|field-from=true a=2"},
		{"logfmt\nmap msg to text", `at=2026-11-24T05:32:28Z msg="a \"b\"" done n=|plain words|a="x`,
			`at=2026-11-24T05:32:28Z done=true text=a "b" @2026-11-24T05:32:28.000Z|misfit|misfit`},
		{"combined", `10.0.0.1 - mira [24/Nov/2026:05:32:28 +0100] "GET /a?b=1 HTTP/1.1" 404 - "-" "F \"x\""|` +
			`10.0.0.1 - - [24/Nov/2026:05:32:28 +0100] "GET / HTTP/1.1" 200 5`,
			`client=10.0.0.1 account=mira at=24/Nov/2026:05:32:28 +0100 request=GET /a?b=1 HTTP/1.1 method=GET ` +
				`path=/a query=b=1 protocol=HTTP/1.1 status=404 agent=F "x" @2026-11-24T04:32:28.000Z|misfit`},
		{"find in text /(?<n>\\d+)/", "a 7|b", "n=7|"},
	} {
		d := divider(t, c.clauses)
		var got []string
		for _, line := range strings.Split(c.lines, "|") {
			if d.Layout.Headed() && d.See([]byte(line)) {
				got = append(got, "")
				continue
			}
			s := told(d.Divide([]byte(line), noon))
			if d.Layout.Headed() && !strings.HasPrefix(s, "misfit") {
				s = " " + s
			}
			got = append(got, s)
		}
		assert.Equal(t, c.want, strings.Join(got, "|"), c.clauses)
	}
}

// What is masked stands in nothing that is shown: not in the text, in no field, however
// it is written there.
func TestMasks(t *testing.T) {
	for _, c := range []struct{ clauses, line, shown, field string }{
		{"pattern /card=(?<card>\\d+) (?<text>.*)$/\nmask card keep last 4",
			"card=4929123412341234 paid by 4929123412341234", "card=***1234 paid by ***1234",
			"card=***1234 text=paid by ***1234"},
		{"pattern /(?<pin>\\d+) at (?<clock>\\S+)/\nmask pin", "12 at 05:12:28 by 12", "*** at 05:***:28 by ***",
			"pin=*** clock=05:***:28"},
		{"json\nmask user.name", `{"user":{"name":"a\"b\\c"},"text":"hello a\"b\\c"}`,
			`{"user":{"name":"***"},"text":"hello ***"}`, "user.name=*** text=hello ***"},
		{"pattern /(?<who>\\S+) (?<text>.*)/\nmap who to account\nlower account\nmask account keep first 1",
			"MIRA signed in: mira", "M*** signed in: m***", "text=signed in: m*** account=m***"},
		{"mask /password=(?<secret>\\S+)/", "user=x password=gull! ok", "user=x password=*** ok", ""},
		{"pattern /^(?<a>x)$/\nmask /\\d{4,}/", "no fit 123456", "no fit ***", ""},
		{"pattern /(?<a>\\w+) (?<b>\\w+)/\nset c \"{a}-{b}\"\nmask a", "secret word", "*** word",
			"a=*** b=word c=***-word"},
	} {
		d := divider(t, c.clauses)
		x := d.Divide([]byte(c.line), noon)
		assert.Equal(t, c.shown, x.Hide(c.line), c.clauses)
		x.Fields = x.HideFields()
		x.At, x.Timed = 0, false
		if c.field != "" {
			assert.Equal(t, c.field, told(x), c.clauses)
		}
	}
	one := divider(t, "pattern /(?<who>\\w+)/\nmask who as token")
	shown := func(d *layout.Divider, s string) string { x := d.Divide([]byte(s), noon); return x.Hide(s) }
	assert.Regexp(t, `^token-[a-z2-7]{12}$`, shown(one, "mira"))
	assert.Equal(t, shown(one, "mira"), shown(one, "mira"))
	assert.NotEqual(t, shown(one, "mira"), shown(one, "ann"))
}

// However a secret is put into an entry of any format, what is shown does not hold it.
func TestMasksLeaveNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		secret := rapid.StringMatching(`[a-zA-Z0-9"\\&<> ;=,é/-]{6,20}`).Draw(t, "secret")
		if strings.TrimSpace(secret) != secret || strings.HasPrefix("secret other more x", secret) {
			t.Skip("it would not come back as it is")
		}
		other := rapid.SampledFrom([]string{"more", "x " + secret + " y"}).Draw(t, "other")
		js, _ := json.Marshal(map[string]string{"secret": secret, "other": other})
		var cs bytes.Buffer
		w := csv.NewWriter(&cs)
		w.Write([]string{secret, other})
		w.Flush()
		quote := strings.NewReplacer(`\`, `\\`, `"`, `\"`)
		for clauses, line := range map[string]string{
			"json":                                  string(js),
			"delimited \",\" columns secret, other": strings.TrimSuffix(cs.String(), "\n"),
			"logfmt": `secret="` + quote.Replace(secret) + `" other="` +
				quote.Replace(other) + `"`,
		} {
			d := divider(t, clauses+"\nmask secret")
			x := d.Divide([]byte(line), noon)
			require.True(t, x.Fits, line)
			for _, f := range x.HideFields() {
				require.NotContains(t, f.Value, secret, line)
			}
			back := d.Divide([]byte(x.Hide(line)), noon)
			for _, f := range back.Fields {
				require.NotContains(t, f.Value, secret, "%s\n%s", line, x.Hide(line))
			}
		}
	})
}

// Our JSON is that of the standard library: the same lines are objects, and their
// members have the same values.
func TestJSONEqualsTheLibrary(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := map[string]any{}
		for _, k := range rapid.SliceOfNDistinct(rapid.StringMatching(`[a-z]{1,6}`), 1, 6, rapid.ID).Draw(t,
			"names") {
			switch rapid.IntRange(0, 4).Draw(t, "kind") {
			case 0:
				m[k] = rapid.String().Draw(t, "text")
			case 1:
				m[k] = rapid.Float64Range(-1e9, 1e9).Draw(t, "number")
			case 2:
				m[k] = rapid.Bool().Draw(t, "bool")
			case 3:
				m[k] = []any{1.0, "x\"", nil, map[string]any{"y": rapid.String().Draw(t, "inner")}}
			default:
				m[k] = map[string]any{"in": rapid.String().Draw(t, "in")}
			}
		}
		line, _ := json.Marshal(m)
		x := divider(t, "json").Divide(line, noon)
		require.True(t, x.Fits, string(line))
		got := map[string]string{}
		for _, f := range x.Fields {
			got[f.Name] = f.Value
		}
		for k, v := range m {
			outer := k
			k = layout.Name(k)
			switch v := v.(type) {
			case string:
				require.Equal(t, strings.ToValidUTF8(v, "\uFFFD"), got[k], string(line))
			case map[string]any:
				require.Equal(t, v["in"], got[layout.Name(outer+".in")], string(line))
			case []any:
				var back []any
				require.NoError(t, json.Unmarshal([]byte(got[k]), &back))
			default:
				b, _ := json.Marshal(v)
				require.Equal(t, string(b), got[k])
			}
		}
	})
}

// What is written as CSV comes back as it was.
func TestColumnsThereAndBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		by := rapid.SampledFrom([]string{",", ";", "\t", "|"}).Draw(t, "by")
		cells := rapid.SliceOfN(rapid.StringMatching(`[a-z0-9 ,;|"é.-]{0,9}`), 3, 3).Draw(t, "cells")
		var b bytes.Buffer
		w := csv.NewWriter(&b)
		w.Comma = []rune(by)[0]
		w.Write(cells)
		w.Flush()
		line := strings.TrimSuffix(b.String(), "\n")
		x := divider(t, "delimited "+lang.Quote(by)+" columns a, b, c").Divide([]byte(line), noon)
		require.True(t, x.Fits, line)
		for i, name := range []string{"a", "b", "c"} {
			got := ""
			for _, f := range x.Fields {
				if f.Name == name {
					got = f.Value
				}
			}
			want := cells[i]
			// blanks around a bare value are no part of it
			if by != "\t" && !strings.ContainsAny(want, by+`"`) && !strings.HasPrefix(want, " ") {
				want = strings.TrimSpace(want)
			}
			require.Equal(t, want, got, line)
		}
	})
}

// An entry is never lost: whatever is fed, dividing answers, and a misfit says why.
func divideAll(t require.TestingT, clauses, text string) {
	d := divider(t, clauses)
	for _, line := range strings.Split(text, "\n") {
		if d.Layout.Headed() && d.See([]byte(line)) {
			continue
		}
		x := d.Divide([]byte(line), noon)
		for _, f := range x.Fields {
			require.NotEmpty(t, f.Name)
		}
		if !x.Fits {
			require.NotEmpty(t, d.Why(&x, []byte(line)), "%q", line)
		}
	}
}

func FuzzJSON(f *testing.F) {
	f.Add(`{"a":{"b":[1,"x\u00e9"]},"time":"2026-11-24T05:32:28Z"}`)
	f.Fuzz(func(t *testing.T, line string) {
		divideAll(t, "json\nmask a", line)
		x := divider(t, "json").Divide([]byte(line), noon)
		var m map[string]any
		err := json.Unmarshal([]byte(line), &m)
		if err == nil && m != nil && len(line) < 1000 && strings.Count(line, "{")+strings.Count(line, "[") < 20 {
			require.True(t, x.Fits, "%q", line)
		}
		if x.Fits && !strings.Contains(line, `\`) &&
			strings.IndexFunc(line, func(r rune) bool { return r < 0x20 }) < 0 {
			require.NoError(t, err, "%q", line)
		}
	})
}

func FuzzLogfmt(f *testing.F) {
	f.Add(`time=2026-11-24T05:32:28Z msg="a \"b\"" x= y`)
	f.Fuzz(func(t *testing.T, line string) { divideAll(t, "logfmt\nmask msg keep last 2", line) })
}

func FuzzColumns(f *testing.F) {
	f.Add("a,b\n1,\"x,\"\"y\"\"\"\nb,a,c\n2,3,4")
	f.Fuzz(func(t *testing.T, text string) {
		for _, c := range []string{"csv", "delimited \" \" columns a, b",
			"delimited \"; \" columns a, b header drop \"'\"\nmask a"} {
			divideAll(t, c, text)
		}
	})
}

func FuzzW3C(f *testing.F) {
	f.Add("#Version: 1.0\n#Fields: date time cs(User-Agent)\n2026-11-24 05:32:28 \"a b\"\n#Date: " +
		"2026-11-24\n#Fields: x")
	f.Fuzz(func(t *testing.T, text string) { divideAll(t, "w3c", text) })
}

// Whatever a sample is, what is proposed for it checks clean, prints as it is, and fits
// as many lines as it says.
func FuzzDetect(f *testing.F) {
	f.Add("2026-11-24 05:32:28 pump-03 pumpd[1]: low\n2026-11-24 05:32:29 pump-04 pumpd[2]: low")
	f.Add("{\"ts\":1795498348}\n{\"ts\":1795498349}")
	f.Add("a;b\n1;2\n3;4")
	f.Add("<13>Nov 24 05:32:28 lock-1 gated: x")
	f.Fuzz(func(t *testing.T, text string) {
		if len(text) < 20_000 {
			detectAll(t, text)
		}
	})
}

// The same of lines that look like logs.
func TestDetectionRoundTrip(t *testing.T) {
	heads := []string{"2026-11-24 05:32:28.114 ", "[24/Nov/2026:05:32:28 +0000] ", "Nov 24 05:32:28 ", "1795498348 ",
		"03/04/2026 05:00 ", "<13>", "{\"ts\":1795498348,", "#Fields: date time x", "a;b;", ""}
	middles := []string{"pump-03 ", "INFO ", "[ERROR] ", "pumpd[7]: ", "gate: ", "level=info ", "\"x\":1,",
		"10.0.0.1 - - ", "1;2;", "\t"}
	rests := []string{"low", "level 7", "\"msg\":\"a\"}", "a=b c=\"d e\"", "GET / HTTP/1.1", "é \xff", "x\ty", ""}
	rapid.Check(t, func(t *rapid.T) {
		var lines []string
		head, middle := rapid.SampledFrom(heads).Draw(t, "head"), rapid.SampledFrom(middles).Draw(t, "middle")
		for range rapid.IntRange(1, 12).Draw(t, "lines") {
			l := head
			if rapid.IntRange(0, 9).Draw(t, "odd") == 0 {
				l = rapid.SampledFrom(heads).Draw(t, "other")
			}
			lines = append(lines, l+middle+rapid.SampledFrom(rests).Draw(t, "rest"))
		}
		detectAll(t, strings.Join(lines, "\n"))
	})
}

func detectAll(t require.TestingT, text string) {
	lines := strings.Split(text, "\n")
	for _, p := range layout.Detect(lines, noon) {
		require.LessOrEqual(t, p.Fits, p.Of)
		written := p.Text("l")
		if written == "" {
			continue
		}
		file := lang.Parse("t", []byte(written))
		require.Equal(t, written, file.Format())
		_, ds := lang.Check([]*lang.File{file}, lang.Env{Time: layout.CheckTime})
		require.Empty(t, ds, written)
	}
}

// A line of a shape has that shape whatever its numbers, names and times are, and the
// shapes of a log are the same from run to run.
func TestShapes(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var lines []string
		for i := range rapid.IntRange(1, 200).Draw(t, "lines") {
			n := rapid.IntRange(0, 99999).Draw(t, "n")
			at := time.Unix(1795498348+int64(i), 0).UTC()
			switch rapid.IntRange(0, 3).Draw(t, "kind") {
			case 0:
				lines = append(lines, fmt.Sprintf("%s pump-%d: pressure low (%d.%d bar)",
					at.Format("2006-01-02 15:04:05"), n%30, n, i))
			case 1:
				lines = append(lines, fmt.Sprintf("%s pump-%d: pressure normal", at.Format("2006-01-02T15:04:05Z"),
					n%30))
			case 2:
				lines = append(lines, fmt.Sprintf("session %08x-1234-4321-abcd-%012x from 10.0.%d.%d for %q", n, n,
					n%200, i%200, strings.Repeat("ab ", n%4)))
			default:
				lines = append(lines, fmt.Sprintf("gate %d opened by crew %s", n,
					strings.Repeat(string(rune('a'+n%26)), 3)+strings.Repeat("x", n%3)))
			}
		}
		run := func() []*layout.Shape {
			s := layout.NewShaper()
			for _, l := range lines {
				s.Add([]byte(l))
			}
			return s.Shapes()
		}
		a, b := run(), run()
		require.Equal(t, len(a), len(b))
		total, crews := 0, 0
		for i := range a {
			require.Equal(t, []any{a[i].ID, a[i].Text, a[i].Count, a[i].Samples},
				[]any{b[i].ID, b[i].Text, b[i].Count, b[i].Samples})
			total += a[i].Count
			require.LessOrEqual(t, a[i].First, a[i].Last)
			if strings.HasPrefix(a[i].Text, "gate <number> opened by crew") {
				crews++
			} else {
				require.Contains(t, []string{"<time> pump-<number>: pressure low (<number> bar)",
					"<time> pump-<number>: pressure normal", "session <id> from <address> for \"<text>\""}, a[i].Text)
			}
		}
		require.Equal(t, len(lines), total)
		require.Less(t, crews, 11, "names become one shape")
	})
}

// Values are counted, and what is said of numbers is true of them.
func TestValues(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		numbers := rapid.SliceOfN(rapid.IntRange(-50, 50), 1, 300).Draw(t, "numbers")
		c := layout.NewCounter()
		counts := map[string]int{}
		for i, n := range numbers {
			v := fmt.Sprint(n)
			counts[v]++
			c.Add([]entry.Field{{Name: "n", Value: v}, {Name: "empty", Value: ""}}, i, v)
		}
		v := c.Field("n", 5)
		require.Nil(t, c.Field("empty", 5))
		require.Equal(t, []any{len(numbers), len(counts), "integer"}, []any{v.Entries, v.Distinct, v.Type})
		for _, x := range v.Top {
			require.Equal(t, counts[x.Value], x.Count)
			require.Equal(t, x.Value, x.Lines[0].Text)
		}
		sum := 0
		for _, h := range v.Numbers.Histogram {
			sum += h
		}
		require.Equal(t, len(numbers), sum)
		atMost := func(x float64) (n int) {
			for _, k := range numbers {
				if float64(k) <= x {
					n++
				}
			}
			return n
		}
		for q, x := range map[float64]float64{0.25: v.Numbers.Q1, 0.5: v.Numbers.Median, 0.75: v.Numbers.Q3,
			1: v.Numbers.Max} {
			require.GreaterOrEqual(t, float64(atMost(x)), q*float64(len(numbers)))
			require.Less(t, float64(atMost(x-1)), q*float64(len(numbers)))
		}
	})
}
