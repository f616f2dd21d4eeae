package author_test

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"dimlantern/core/author"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// What identifies is the key, whatever was seen of it; what differs each time, is measured, or is always
// the same, is none. Another state is another thing that is said, and no value.
func TestKeys(t *testing.T) {
	each := []string(nil)
	accounts, addresses := []string{"root", "anna", "maestro7"}, []string{"10.0.0.1", "10.0.0.2"}
	units := []string{"nginx.service", "postgres.service", "cron.service"}
	for _, c := range []struct {
		form  string
		lists [][]string
		want  string
	}{
		{"Failed password for %s from %s port %s ssh2", [][]string{accounts, addresses, each},
			`Failed password for (?<account>\S+) from [\d.:,]+ port \d+ ssh\d+`},
		{"Failed password for invalid user %s from %s port %s", [][]string{accounts, {"10.0.0.1"}, each},
			`Failed password for invalid user (?<user>\S+) from [\d.:,]+ port \d+`},
		{"Invalid user %s from %s port %s", [][]string{{"anna1", "anna2", "anna3"}, {"10.0.0.1"}, each},
			`Invalid user (?<user>\S+) from [\d.:,]+ port \d+`},
		{"FS error (device %s): find_entry:1455: inode #%s: lblock 0", [][]string{{"sda1", "sdb2"}, each},
			`FS error \(device (?<device>[^\s\)]+)\): find_entry:\d+: inode #\d+: lblock \d+`},
		{"link %s down", [][]string{{"eth0", "eth1"}}, `link (?<link>eth\d+) down`},
		{"link eth0 %s", [][]string{{"up", "down"}}, `link eth\d+ up`},
		{"pump %s: pressure low (%s bar, want 2.0)", [][]string{{"7", "8"}, {"1.2", "1.3"}},
			`pump (?<pump>\d+): pressure low \([\d.:,]+ bar, want [\d.:,]+\)`},
		{"pump 7: pressure %s", [][]string{{"low", "normal"}}, `pump (?<pump>\d+): pressure low`},
		{"job %s failed after %s s", [][]string{{"nightly", "weekly"}, each}, `job (?<job>\S+) failed after \d+ s`},
		{"session %s opened for user %s", [][]string{each, accounts}, `session \d+ opened for user (?<user>\S+)`},
		{"Unit %s entered failed state.", [][]string{units}, `Unit (?<unit>\S+) entered failed state\.`},
		{"%s: Main process exited, status=1/FAILURE", [][]string{units},
			`(?<unit>[^\s:]+): Main process exited, status=\d+/FAILURE`},
		{"refused (111: Connection refused), client: %s, server: %s", [][]string{addresses, {"a.example", "b.example"}},
			`refused \(\d+: Connection refused\), client: [\d.:,]+, server: (?<server>\S+)`},
		{"connection received: host=%s port=%s", [][]string{addresses, each},
			`connection received: host=(?<address>[\d.:,]+) port=\d+`},
		{"user=%s took %sms", [][]string{accounts, each}, `user=(?<user>\S+) took \d+ms`},
		{"%s: open refused: levels differ by %s m", [][]string{{"gate-a1", "gate-a2"}, {"0.4", "0.5"}},
			`(?<gate>gate-a\d+): open refused: levels differ by [\d.:,]+ m`},
		{"status half-configured %s %s", [][]string{{"libc-bin:amd64", "man-db:all", "proftpd-core:amd64"},
			{"2.36-9+deb12u14", "1.1.4-1", "1.3.8+dfsg-4"}}, `status half-configured \S+ \S+`},
		{"status %s libc-bin:amd64 2.36-9", [][]string{{"half-configured", "half-installed"}},
			`status half-configured libc-bin:amd\d+ [\d.:,]+-\d+`},
		{"pid %s exited on signal 11", [][]string{each}, `pid \d+ exited on signal \d+`},
	} {
		var texts []string
		for i := range 12 {
			var values []any
			for _, list := range c.lists {
				if list == nil {
					values = append(values, fmt.Sprint(40000+i*37))
				} else {
					values = append(values, list[i%len(list)])
				}
			}
			texts = append(texts, fmt.Sprintf(c.form, values...))
		}
		v := author.Over(texts[0], nil, texts[1:])
		pattern := v.Pattern(v.Key())
		assert.Equal(t, c.want, strings.ReplaceAll(strings.Trim(pattern, "/"), `\/`, "/"))
		for _, x := range texts {
			if v.N == len(texts) {
				require.True(t, compiled(t, pattern).MatchString(x), "%s on %q", pattern, x)
			}
		}
	}
	v := author.Over("Failed password for root from 10.0.0.1 port 4", nil,
		[]string{"Failed password for anna from 10.0.0.1 port 5", "Failed password for git from 10.0.0.2 port 6"})
	assert.Equal(t, "root, anna, git", v.Key().Say())
	alone := author.Over("pump 7 low, port 80", nil, nil)
	assert.Equal(t, "pump", alone.Key().Name)
}

// Whatever the texts are, the pattern over them fits the text that it comes from.
func TestPatternFitsItsText(t *testing.T) {
	token := rapid.OneOf(
		rapid.StringMatching(`[a-z]{1,6}[-.:,_/=]?[0-9]{0,3}[.:,]?[0-9a-f]{0,12}`),
		rapid.StringMatching(`(for|user|gate|unit|from) ?`),
		rapid.StringMatching(`\(?[A-Za-z]{2,5}=?[0-9]{1,3}(\.[0-9]{1,2}){0,3}\)?[;:,]?`),
		rapid.StringMatching("(0x[0-9a-f]{6,12}|[0-9]+:[0-9]+|::1|<[A-Za-z0-9/]{8,14}>|\"|'|ö|端|\\*\\*\\*)"))
	text := rapid.Custom(func(t *rapid.T) string {
		var b strings.Builder
		for i, w := range rapid.SliceOfN(token, 1, 7).Draw(t, "words") {
			if i > 0 {
				b.WriteString(rapid.SampledFrom([]string{" ", " ", " ", "\t", "  "}).Draw(t, "between"))
			}
			b.WriteString(w)
		}
		return b.String()
	})
	rapid.Check(t, func(t *rapid.T) {
		own := text.Draw(t, "text")
		others := rapid.SliceOfN(text, 0, 4).Draw(t, "others")
		for i := range rapid.IntRange(0, 6).Draw(t, "alike") { // the same, with other numbers
			others = append(others, strings.NewReplacer("1", fmt.Sprint(i), "2", fmt.Sprint(i*7)).Replace(own))
		}
		v := author.Over(own, nil, others)
		p := v.Pattern(v.Key())
		re, err := regexp.Compile(strings.ReplaceAll(p[1:len(p)-1], `\/`, "/"))
		require.NoError(t, err, p)
		require.True(t, re.MatchString(own), "%s of %q", p, own)
	})
}
