package lang_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each clause has its words: whatever is changed in a rule, it reads otherwise.
func TestWordsOfEveryClause(t *testing.T) {
	const contact = "contact duty {\n mail \"a@b.example\"\n}\ncontact boss {\n mail \"c@b.example\"\n}\nsource s " +
		"{\n files \"/x\"\n}\nsource u {\n files \"/y\"\n}\nrule big {\n problem \"y\"\n per host\n raise " +
		"error\n}\nrule huge {\n problem \"y\"\n per host\n raise error\n}\n"
	base := "problem \"x\"\nper host\nraise error\n"
	awaits := "awaits \"x\"\nper host\nraise error after 5m without\n"
	number := "problem has n\nper host\nraise error when avg(n) > 5 in 5m\n"
	share := "problem \"x\"\nper host\nraise error when share > 5% in 5m\n"
	seen := map[string]string{}
	for _, body := range []string{
		base, base + "on s\n", base + "on u\n", base + "on s, u\n",
		strings.Replace(base, "per host", "per nothing", 1), strings.Replace(base, "per host", "per host, n", 1),
		strings.Replace(base, "raise error", "raise critical", 1), base + "raise critical at 3 in 5m\n",
		base + "raise critical at 3 in 10m\n", base + "raise critical at 3\n", base + "raise critical at 4\n",
		base + "raise critical at 3 different n in 5m\n", base + "raise critical at 3 in 5m where n > 5\n",
		base + "raise critical at 3 in 5m, then \"z\" within 1m\n",
		base + "raise critical at 3 in 5m, then \"z\" within 2m\n",
		base + "raise critical after 1h open\n", base + "raise critical after 1h open untaken\n",
		base + "recovery \"z\"\n", base + "recovery \"z\"\nclear on recovery at 2\n",
		base + "recovery \"z\"\nclear on recovery at 2 in 5m\n",
		base + "recovery \"z\"\nclear after 5m quiet\n", base + "clear after 5m quiet\n",
		base + "clear after 5m open\n", base + "clear by hand\n", base + "ignore \"q\"\n", base + "remind every 1h\n",
		base + "reopen within 5m\n",
		base + "unless big open same host\n", base + "unless big open\n", base + "unless huge open\n",
		base + "during 08:00-18:00\n", base + "during mon-fri 08:00-18:00\n", base + "during 20:00-24:00\n",
		base + "blind raises notice after 5m\n", base + "blind raises notice after 6m\n",
		base + "clock arrival\n", base + "tell duty\n", base + "tell duty, boss\n", base + "tell duty from error\n",
		base + "tell duty on raised\n", base + "unless taken in 5m tell duty\n", base + "say \"hey\"\n",
		base + "advise \"hey\"\n", base + "about ships\n", base + "off\n",
		awaits, strings.Replace(awaits, "5m", "6m", 1), awaits + "once \"q\"\n",
		strings.Replace(awaits, "\"x\"", "\"x\" from \"a\"", 1),
		strings.Replace(awaits, "after 5m without", "by 06:00 without", 1),
		strings.Replace(awaits, "after 5m without", "by 06:00 on mon without", 1),
		number, strings.Replace(number, "avg", "sum", 1), strings.Replace(number, "avg", "min", 1),
		strings.Replace(number, "avg", "max", 1), strings.Replace(number, "avg", "p50", 1),
		strings.Replace(number, "avg", "p95", 1), strings.Replace(number, "avg", "p99", 1),
		strings.Replace(number, "avg", "different", 1),
		strings.Replace(number, "> 5", ">= 5", 1), strings.Replace(number, "> 5", "< 5", 1),
		strings.Replace(number, "> 5", "<= 5", 1), strings.Replace(number, "> 5", "== 5", 1),
		strings.Replace(number, "> 5", "!= 5", 1), strings.Replace(number, "in 5m", "in 5m, at least 3", 1),
		strings.Replace(number, "in 5m", "in 5m, 3 in a row", 1),
		strings.Replace(number, "in 5m", "in 5m, 3 of 4", 1), number + "clear when avg(n) < 3 in 5m\n",
		number + "empty counts as good\n", number + "empty counts as bad\n", number + "empty counts as neither\n",
		strings.Replace(number, "in 5m", "in 5m, 3 in a row", 1) + "grace 5s\n",
		share, share + "among \"y\"\n",
		strings.Replace(base, "\"x\"", "/x/", 1), strings.Replace(base, "\"x\"", "not \"x\"", 1),
		strings.Replace(base, "\"x\"", "\"x\" and \"y\"", 1), strings.Replace(base, "\"x\"", "\"x\" or \"y\"", 1),
		strings.Replace(base, "\"x\"", "(\"x\" or \"y\") and \"z\"", 1),
		strings.Replace(base, "\"x\"", "\"x\" or \"y\" and \"z\"", 1),
		strings.Replace(base, "\"x\"", "n == 5", 1), strings.Replace(base, "\"x\"", "n != 5", 1),
		strings.Replace(base, "\"x\"", "n == \"5\"", 1), strings.Replace(base, "\"x\"", "n in (5, 6..9)", 1),
		strings.Replace(base, "\"x\"", "has n", 1), strings.Replace(base, "\"x\"", "lacks n", 1),
		strings.Replace(base, "\"x\"", "n ~ /x/", 1), strings.Replace(base, "\"x\"", "n !~ /x/", 1),
	} {
		s, ds := check(contact + "rule r {\n" + body + "}\n")
		r := s.Rule("r")
		require.NotNil(t, r, "%s\n%v", body, ds)
		words := strings.Join(r.Words(), " ")
		assert.NotContains(t, words, "  ", body)
		assert.NotContains(t, words, "%!", body)
		if had, twice := seen[words]; twice {
			assert.Fail(t, "two rules read the same", "%s\n%s\n%s", had, body, words)
		}
		seen[words] = body
	}
}
