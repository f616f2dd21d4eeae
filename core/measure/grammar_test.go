package measure

import (
	"regexp"
	"strconv"
	"strings"

	"github.com/stretchr/testify/require"
)

// The grammar of OpenMetrics 1.0, "ABNF", by its own names.
var (
	metricName = `[a-zA-Z_:][a-zA-Z0-9_:]*`
	labelName  = `[a-zA-Z_][a-zA-Z0-9_]*`
	escapedStr = `(?:[^"\\\n]|\\["\\n])*`
	labelsRule = `\{(?:` + labelName + `="` + escapedStr + `"(?:,` + labelName + `="` + escapedStr + `")*)?\}`
	realNumber = `[+-]?(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)(?:e[+-]?[0-9]+)?`
	numberRule = `(?:` + realNumber + `|[+-]?(?i:inf(?:inity)?)|(?i:nan))`
	stampRule  = `[+-]?[0-9]+(?:\.[0-9]*)?`
	sampleRule = regexp.MustCompile(
		`^(` + metricName + `)(` + labelsRule + `)? (` + numberRule + `)(?: ` + stampRule +
			`)?( # (` + labelsRule + `) ` + numberRule + `(?: ` + stampRule + `)?)?$`,
	)
	describing = regexp.MustCompile(`^# (TYPE|UNIT|HELP) (` + metricName + `) (.*)$`)
	oneLabel   = regexp.MustCompile(`(` + labelName + `)="(` + escapedStr + `)"`)
)

// suffixes are those of a type's samples ("Suffixes").
var suffixes = map[string][]string{"counter": {"_total", "_created"}, "gauge": {""},
	"histogram": {"_bucket", "_sum", "_count", "_created"}}

// wellFormed holds a page against the grammar, and against what the standard's prose says besides.
func wellFormed(t require.TestingT, page string) {
	require.True(t, strings.HasSuffix(page, "\n# EOF\n") || page == "# EOF\n", "the page ends with EOF")
	lines := strings.Split(strings.TrimSuffix(page, "# EOF\n"), "\n")
	families, points := map[string]bool{}, map[string]bool{}
	family, kind, point := "", "", ""
	described := map[string]bool{}
	least, upTo, inf := int64(0), 0.0, int64(-1)
	for _, line := range lines[:len(lines)-1] {
		if m := describing.FindStringSubmatch(line); m != nil {
			if m[1] == "TYPE" {
				require.False(t, families[m[2]], "a family stands in one piece: %s", m[2])
				families[m[2]], family, kind, point = true, m[2], m[3], ""
				described = map[string]bool{}
				require.Contains(t, suffixes, kind)
			}
			require.Equal(t, family, m[2])
			require.False(t, described[m[1]], "once each: %s", line)
			described[m[1]] = true
			if m[1] == "UNIT" {
				require.True(t, strings.HasSuffix(family, "_"+m[3]), "a unit is the suffix of the name: %s", line)
			}
			continue
		}
		m := sampleRule.FindStringSubmatch(line)
		require.NotNil(t, m, "no sample: %q", line)
		suffix, ok := strings.CutPrefix(m[1], family)
		require.True(t, ok, "%s is of another family than %s", line, family)
		require.Contains(t, suffixes[kind], suffix, line)
		names, le, labels := map[string]bool{}, "", ""
		for _, l := range oneLabel.FindAllStringSubmatch(m[2], -1) {
			require.False(t, names[l[1]], "a label once: %s", line)
			names[l[1]] = true
			if l[1] == "le" && suffix == "_bucket" {
				le = l[2]
				continue
			}
			labels += l[0] + ","
		}
		if id := family + labels; id != point {
			require.False(t, points[id], "a point stands in one piece: %s", line)
			points[id], point = true, id
			least, upTo, inf = 0, -1, -1
		}
		if suffix == "_total" || suffix == "_bucket" || suffix == "_count" {
			require.NotContains(t, m[3], "-", "it only grows: %s", line)
		}
		switch suffix {
		case "_bucket":
			n, err := strconv.ParseInt(m[3], 10, 64)
			require.NoError(t, err, line)
			require.GreaterOrEqual(t, n, least, "buckets are cumulative: %s", line)
			bound, err := strconv.ParseFloat(le, 64)
			require.NoError(t, err, line)
			require.Greater(t, bound, upTo, "bounds ascend: %s", line)
			if least, upTo = n, bound; le == "+Inf" {
				inf = n
			}
		case "_count":
			require.Equal(t, strconv.FormatInt(inf, 10), m[3], "the last bucket has all: %s", line)
		}
		if m[4] != "" {
			require.Contains(t, []string{"_total", "_bucket"}, suffix, "who may have an exemplar: %s", line)
			runes := 0
			for _, l := range oneLabel.FindAllStringSubmatch(m[5], -1) {
				value := strings.NewReplacer(`\\`, `\`, `\n`, "\n", `\"`, `"`).Replace(l[2])
				runes += len([]rune(l[1])) + len([]rune(value))
			}
			require.LessOrEqual(t, runes, 128, line)
		}
	}
}
