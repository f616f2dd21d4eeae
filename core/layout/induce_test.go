package layout

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// drawn is a line with the spans of its values.
type drawn struct {
	line  string
	spans []Span
}

// drawLine writes a line of a template, whose values are drawn.
func drawLine(t *rapid.T, template []string, label string) drawn {
	d := drawn{}
	for i, p := range template {
		kind, name, _ := strings.Cut(p, ":")
		v := p
		draw := map[string]string{"NUM": `[1-9][0-9]{0,4}`, "WORD": `[a-z]{2,8}`, "NAME": `[a-z]{2,6}-[0-9]{1,3}`,
			"DEC": `-?[0-9]{1,3}\.[0-9]`, "QUOTED": `[a-z][a-z ]{0,8}`}[kind]
		if draw != "" {
			v = rapid.StringMatching(draw).Draw(t, label+fmt.Sprint(i))
			d.spans = append(d.spans, Span{len(d.line), len(d.line) + len(v), name})
		}
		d.line += v
	}
	return d
}

var templates = [][]string{
	{"pump ", "NUM:pump", ": pressure ", "DEC:bar", " bar"},
	{"gate ", "NAME:gate", " opened by ", "WORD:who", " in ", "NUM:ms", " ms"},
	{"user \"", "QUOTED:who", "\" left from bay ", "NUM:bay"},
	{"[", "NAME:unit", "] level=", "DEC:level", ", state=", "WORD:state"},
	{"copy ", "WORD:job", " begins"}, {"x", "NUM:n", "y"}, {"NUM:first", " of ", "NUM:of", " tickets"},
	{"at ", "NUM:depth", "m: (", "NAME:buoy", ")"},
}

// Induction never loses a marked span: what is pointed at on some lines is found there,
// whole; and lines that are not meant give nothing.
func TestInductionFindsWhatWasMarked(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		template := rapid.SampledFrom(templates).Draw(t, "template")
		other := rapid.SampledFrom(templates).Draw(t, "other")
		if slices.Equal(template, other) {
			t.Skip("the same kind of line")
		}
		var examples []Example
		for i := range rapid.IntRange(1, 3).Draw(t, "marked") {
			d := drawLine(t, template, fmt.Sprintf("m%d-", i))
			examples = append(examples, Example{Line: d.line, Is: d.spans})
		}
		var sample []string
		for i := range rapid.IntRange(0, 6).Draw(t, "sample") {
			sample = append(sample, drawLine(t, template, fmt.Sprintf("s%d-", i)).line)
		}
		against := drawLine(t, other, "not-")
		no := Example{Line: against.line}
		for _, s := range against.spans {
			no.Not = append(no.Not, Span{s.Start, s.End, ""})
		}
		got, err := Induce(append(slices.Clone(examples), no), append(sample, against.line))
		require.NoError(t, err, "%q", examples)
		re := regexp.MustCompile(got.Pattern)
		for _, e := range examples {
			m := re.FindStringSubmatchIndex(e.Line)
			require.NotNil(t, m, "%s on %q", got.Pattern, e.Line)
			for _, s := range e.Is {
				g := re.SubexpIndex(s.Name)
				require.Equal(t, [2]int{s.Start, s.End}, [2]int{m[2*g], m[2*g+1]}, "%s on %q", got.Pattern, e.Line)
			}
		}
		if m := re.FindStringSubmatchIndex(against.line); m != nil {
			for _, s := range no.Not {
				for g := 1; g <= re.NumSubexp(); g++ {
					require.False(t, m[2*g] < s.End && m[2*g+1] > s.Start, "%s finds %q in %q", got.Pattern,
						against.line[m[2*g]:m[2*g+1]], against.line)
				}
			}
		}
		require.NotEmpty(t, got.Parts)
	})
}

func marked(line string, marks ...string) Example {
	e := Example{Line: line}
	for i := 0; i+1 < len(marks); i += 2 {
		at := strings.Index(line, marks[i])
		e.Is = append(e.Is, Span{at, at + len(marks[i]), marks[i+1]})
	}
	return e
}

// What was built is readable, no narrower than the sample allows, and explained; marks
// that contradict each other are told so.
func TestInduction(t *testing.T) {
	for _, c := range []struct {
		examples []Example
		sample   []string
		want     string
	}{
		{[]Example{marked("pump 7: pressure low", "7", "pump")}, nil, `^pump (?<pump>\d+):`},
		{[]Example{marked("12:00 pump 7: pressure 2.4 bar", "2.4", "bar")}, []string{"12:01 pump 8: pressure 13 bar"},
			`\bpressure (?<bar>-?\d+(?:\.\d+)?) `},
		{[]Example{marked(`user "mira" left`, "mira", "who")}, []string{`user "ann b" left`},
			`^user "(?<who>[^"]+)"`},
		{[]Example{marked("gate lock-1 opened by mira", "lock-1", "gate", "mira", "who")}, nil,
			`^gate (?<gate>[\w-]+) opened by (?<who>[a-z]+)$`},
	} {
		got, err := Induce(c.examples, c.sample)
		require.NoError(t, err)
		assert.Equal(t, c.want, got.Pattern)
		for _, l := range c.sample {
			assert.Regexp(t, got.Pattern, l)
		}
	}
	_, err := Induce([]Example{marked("gate opened by mira today", "mira", "x"),
		marked("7 gates were shut", "7", "x")}, nil)
	require.Error(t, err)
	assert.Contains(t, err.Error(), "on line 1 x is in the fourth word, a name (`mira`), on line 2 it is in the "+
		"first word, a number (`7`)")
	_, err = Induce([]Example{marked("a 1 b 2", "1", "x", "2", "y"), marked("b 2 a 1", "2", "y", "1", "x")}, nil)
	require.Error(t, err)
	assert.Contains(t, err.Error(), "on line 2 y stands before x, on line 1 behind it")

	var words []string
	for _, p := range Explain(`^pump (?<pump>\d+): low$`) {
		words = append(words, p.Part+" | "+p.Words)
	}
	assert.Equal(t, []string{"^ | the line begins", "pump  | the text `pump `",
		"(?<pump>\\d+) | the field pump: digits", ": low | the text `: low`", "$ | the line ends"}, words)
}
