package lang_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/lang"
	"dimlantern/core/layout"
	_ "dimlantern/core/layout" // it checks the examples of times
)

func check(src string) (*lang.Settings, []lang.Diagnostic) {
	return lang.Check([]*lang.File{lang.Parse("t.lantern", []byte(src))}, lang.Env{Time: layout.CheckTime})
}

// rule wraps clauses into a rule that is otherwise without findings.
func rule(clauses string) string {
	return "rule r {\n" + clauses + "\n}\n"
}

const sound = `problem /pump (?<pump>\d+): low/
  per pump
  raise warning
  clear after 5m quiet
  expect "x" {
    at 10:00 "pump 7: low"
    then raised
  }`

// Each mistake gives one message that a person can act on: where it is, what is
// wrong, and what to write instead.
func TestMistakes(t *testing.T) {
	for _, c := range []struct {
		name, src string
		code      string
		place     string // line:column
		what      string // part of what is said
		mend      string // part of what is suggested
	}{
		{"a clause that does not exist", rule("problme \"x\"\nraise warning"), "unknown-clause", "2:1",
			"no clause problme", "did you mean: problem"},
		{"a block that does not exist", "rul r {\n problem \"x\"\n}\n", "unknown-block", "1:1", `no block "rul"`,
			"did you mean: rule"},
		{"a source that does not exist", "source pumps { files \"/var/log/p.log\" }\n" + rule("on pump\n"+sound),
			"unknown-name", "3:4", `no source "pump"`, "did you mean: pumps"},
		{"a layout that does not exist", "layout pump-line {\n pattern /(?<x>a)/\n}\nsource s {\n files \"/x\"\n " +
			"layout pump-lin\n}\n", "unknown-name", "6:9", `no layout "pump-lin"`, "did you mean: pump-line"},
		{"a severity that does not exist", rule("problem \"x\"\nraise warn"), "unknown-severity", "3:7",
			`no severity "warn"`, "did you mean: warning"},
		{"a pattern that does not compile", rule("problem /pump (\\d+/\nraise warning"), "bad-pattern", "2:9",
			"a ( is never closed", `\( or \)`},
		{"look-ahead", rule("problem /a(?!b)/\nraise warning"), "bad-pattern", "2:9", "no look-ahead", "and not /…/"},
		{"a text that does not end", rule("problem \"pump low\nraise warning"), "unclosed", "2:9",
			"does not end on its line", `close it with "`},
		{"a pattern that does not end", rule("problem /pump low\nraise warning"), "unclosed", "2:9",
			"does not end on its line", "close it with /"},
		{"a parenthesis that is not closed", rule("problem (\"a\" or \"b\"\nraise warning"), "unclosed", "2:9",
			"this ( is never closed", ")"},
		{"a block that is not closed", "rule r {\n  problem \"x\"\n  raise error\n\nsource q { files \"/y\" }\n",
			"unclosed", "1:8", "never closed", "}"},
		{"a duration without a unit", rule("problem \"x\"\nraise warning at 3 in 5"), "bad-duration", "3:23",
			`"5" is no duration`, "5m"},
		{"a duration in a wrong order", rule("problem \"x\"\nraise warning at 3 in 5m1h"), "bad-duration", "3:23",
			"larger units come first", "1h30m"},
		{"a threshold of nothing", rule("problem \"x\"\nraise warning at 0 in 5m"), "bad-number", "3:18",
			"goes from 1", "number"},
		{"a single =", rule("problem event = 5120\nraise warning"), "syntax", "2:15", "a single =", "=="},
		{"a word without quotes", rule("problem state == failed\nraise warning"), "bad-value", "2:18",
			"neither a number nor the name of a level", `"failed"`},
		{"single quotes", rule("problem 'x'\nraise warning"), "syntax", "2:9", "does not quote a text", `"…"`},
		{"two expressions side by side", rule("problem \"a\" \"b\"\nraise warning"), "syntax", "2:13",
			"and or or is missing", "join"},
		{"not in", rule("problem status not in (1, 2)\nraise warning"), "syntax", "2:16", "not stands before",
			"not status in"},
		{"an encoding that there is not", "source s {\n files \"/x\"\n encoding utf8\n}\n", "unknown-encoding",
			"3:11", `no encoding "utf8"`, "utf-8"},
		{"entry without starts", "source s {\n files \"/x\"\n entry /^a/\n}\n", "syntax", "3:8",
			"starts was expected", "entry starts"},
		{"two ways in", "source s {\n files \"/x\"\n input\n}\n", "two-ways-in", "1:8", "several ways in",
			"a source of its own"},
		{"no way in", "source s {\n layout plain\n}\n", "incomplete", "1:8",
			"does not say where its entries come from", "listen syslog"},
		{"a port without its number", "source s {\n listen syslog udp \"0.0.0.0\"\n}\n", "bad-address", "2:20",
			"has no port", `":514"`},
		{"a transport that there is not", "source s {\n listen syslog sctp \":514\"\n}\n", "unknown-word", "2:16",
			"sctp is not udp, tcp or tls", "tcp"},
		{"tls without a certificate", "source s {\n listen syslog tls \":6514\"\n}\n", "incomplete", "2:2",
			"a certificate and its key", "cert"},
		{"a certificate without tls", "source s {\n listen syslog tcp \":6514\" cert \"/x\"\n}\n", "syntax", "2:2",
			"tcp has no certificates", "tls"},
		{"the journal beside channels", "source s {\n channel \"A\", \"journal\"\n}\n", "two-ways-in", "1:8",
			"stands beside event channels", "of its own"},
		{"keep of files", "source s {\n files \"/x\"\n keep 7d\n}\n", "does-not-apply", "3:7", "read in place",
			"take the clause out"},
		{"begin of a port", "source s {\n listen syslog udp \":514\"\n begin oldest\n}\n", "does-not-apply", "3:8",
			"nothing was there before", "take the clause out"},
		{"message of files", "source s {\n files \"/x\"\n message essentials\n}\n", "does-not-apply", "3:10",
			"only the events of channels", "take the clause out"},
		{"a word for nothing", "layout l {\n event-xml\n names event {\n }\n}\n", "incomplete", "3:2",
			"no value has a word", "names event {"},
		{"two words for a value", "layout l {\n event-xml\n names event {\n  1 \"a\"\n  1 \"b\"\n }\n}\n", "twice",
			"5:3", "1 has a word already", "keep one"},
		{"a word for a field that no pattern gives", "layout l {\n pattern /(?<x>a)/\n names y {\n  1 \"a\"\n }\n}\n",
			"unknown-field", "3:8", "gives the field y", "x"},
		{"a contact without a way", "contact crew {\n from error\n}\n", "incomplete", "1:9",
			"does not say how it is told", "webhook"},
		{"an address without a host", "contact crew {\n mail \"crew\"\n}\n", "bad-address", "2:7", "no mail address",
			"duty@"},
		{"two addresses in one text", "contact crew {\n mail \"a@x.example, b@x.example\"\n}\n", "bad-address", "2:7",
			"no mail address", "commas between"},
		{"a webhook without https", "contact crew {\n webhook \"hooks.example/x\"\n}\n", "bad-address", "2:10",
			"no address of a webhook", "https://"},
		{"a program without its folder", "contact crew {\n command \"beacon\" \"on\"\n}\n", "relative-path", "2:10",
			"does not begin with /", "/usr/local"},
		{"a contact that there is not", "contact crew {\n command \"/x\"\n}\n" + rule(sound+"\ntell crw"),
			"unknown-name", "13:6", "no contact \"crw\"", "did you mean: crew"},
		{"a contact of all that there is not",
			"contact crew {\n command \"/x\"\n}\nsettings {\n tell crew, crws\n}\n", "unknown-name", "5:13",
			"no contact \"crws\"", "crew"},
		{"a rule that tells nobody", "contact crew {\n command \"/x\"\n}\n" + rule(sound), "tells-nobody", "4:6",
			"nobody is told", "tell crew"},
		{"a hush of nothing", "hush h {\n sun 02:00-04:00\n}\n", "incomplete", "1:6", "does not say what",
			"rules NAME"},
		{"a hush for ever", "hush h {\n where host == \"a\"\n}\n", "incomplete", "1:6", "does not say when",
			"sun 02:00"},
		{"a hush that ends before it begins", "hush h {\n where host == \"a\"\n from 2026-12-02T04:00:00Z to " +
			"2026-12-01T04:00:00Z\n}\n", "bad-time", "3:31", "ends before it begins", "earlier"},
		{"a hush of a rule that there is not", "hush h {\n rules s\n sun 02:00-04:00\n}\n" + rule(sound),
			"unknown-name", "2:8", "no rule \"s\"", "r"},
		{"a day that there is not", "hush h {\n where host == \"a\"\n sun-day 02:00-04:00\n}\n", "unknown-day", "3:2",
			"no day", "mon-fri"},
		{"a clause of the settings twice", "settings { zone \"UTC\" }\nsettings { zone \"UTC\" }\n", "twice", "2:12",
			"written twice", "keep one"},
		{"mail from nobody", "settings {\n mail server \"m.example:25\"\n}\n", "incomplete", "2:2", "from whom",
			"from"},
		{"a recovery that comes from elsewhere", "source a { files \"/a\" }\nsource b { files \"/b\" }\n" +
			rule("problem source == \"a\" and \"low\"\nrecovery source == \"b\" and \"well\"\nraise "+
				"warning\nexpect \"x\" {\n at 10:00 \"low\"\n then nothing\n}"), "recovery-elsewhere", "5:10",
			"comes from b", "per host"},
		{"a share of itself", rule("problem /refused (?<gate>\\d+)/\nper gate\nraise error when share > 5% in " +
			"5m\nexpect \"x\" {\n at 10:00 \"a\"\n then nothing\n}"), "share-key", "3:5",
			"only the problem captures gate", "among"},
		{"a wait as long as the beat", rule("awaits \"beat\"\nraise error after 1m without\nexpect \"x\" {\n at " +
			"10:00 \"beat\"\n at 10:01 \"beat\"\n}"), "wait-too-short", "3:1", "every 1m", "after 2m"},
		{"a wait as short as the look", "source a { files \"/a\" every 5m }\n" +
			rule("awaits \"beat\"\nraise error after 1m without\n"+
				"expect \"x\" {\n at 10:00 \"beat\"\n then nothing\n}"),
			"wait-too-short", "4:1", "every 5m", "shorter every"},
		{"a threshold without at", rule("problem \"x\"\nraise warning 3 in 5m"), "syntax", "3:15", "at is missing",
			"raise warning at 3 in 5m"},
		{"a threshold within", rule("problem \"x\"\nraise warning at 3 within 5m"), "syntax", "3:20", "not within",
			"in instead of within"},
		{"a count of a field", rule("problem \"x\"\nraise warning when count(pump) > 5 in 5m"), "syntax", "3:25",
			"has no field", "different(FIELD)"},
		{"a day by its whole name", rule("problem \"x\"\nduring monday 08:00-18:00\nraise warning"), "unknown-day",
			"3:8", "no day", "write: mon"},
		{"a capacity that is none", "settings {\n keep at most 5\n}\n", "bad-size", "2:15", "no size of a MiB",
			"2 GiB"},
		{"kept at the centre, for no host", "source a {\n files \"/a\"\n keep at centre 30d\n}\n", "does-not-apply",
			"3:7", "for no host", "for GROUP"},
		{"kept at a centre, for how long", "source a {\n files \"/a\"\n keep at centre\n}\n", "incomplete", "3:16",
			"a time", "30s"},
		{"settings with a name", "settings mine {\n keep at most 1 GiB\n}\n", "bad-name", "1:10",
			"settings have no name", "settings {"},
		{"an ambiguous example of a time", "layout l {\n pattern /(?<at>\\S+ \\S+)/\n time at like \"03/04/2026 " +
			"05:00:00\"\n}\n", "bad-time-example", "3:15", "two readings", "day first"},
		{"an example that is no time", "layout l {\n pattern /(?<at>\\S+)/\n time at like \"soon\"\n}\n",
			"bad-time-example", "3:15", "not understood", "2026-11-24"},
		{"a time in a field that no pattern gives", "layout l {\n pattern /(?<when>\\S+) (?<text>.*)/\n time at " +
			"like \"2026-11-24 05:32:28\"\n}\n", "unknown-field", "3:7", "nothing in this layout gives the field at",
			"there are: text, when"},
		{"clear by hand beside another way", rule(
			"problem \"x\"\nraise warning\nclear by hand\nclear after 5m quiet"), "clear-by-hand", "4:1",
			"another way to clear stands beside it", "keep one"},
		{"clear on recovery without one", rule("problem \"x\"\nraise warning\nclear on recovery"), "no-recovery",
			"4:1", "nothing says what the recovery is", "recovery /…/"},
		{"a rule without a problem", rule("raise warning\nclear by hand"), "incomplete", "1:6",
			"does not say what the problem is", "problem /…/"},
		{"a rule that raises nothing", rule("problem \"x\"\nclear by hand"), "incomplete", "1:6", "raises nothing",
			"raise warning"},
		{"two rules of one name", rule(sound) + rule(sound), "twice", "11:6", "another rule r, at t.lantern:1:6",
			"its own name"},
		{"a word of the language as a name", "source from { files \"/x\" }\n", "bad-name", "1:8",
			"a word of the language", "another name"},
		{"a relative path", "source s { files \"logs/x.log\" }\n", "relative-path", "1:18", "does not begin with /",
			"/var/log/"},
		{"a raise without when", rule("problem \"x\"\nraise error count > 3 in 5m\nclear by hand"), "syntax", "3:13",
			"the clause should end before count", "raise error when"},
		{"a number over time that there is not", rule("problem \"x\"\nraise error when median(took) > 3 in 5m"),
			"unknown-aggregate", "3:18", "called \"median\"", "there are: avg"},
		{"a share that is no percentage", rule("problem \"x\"\nraise error when share > 3 in 5m"), "bad-value",
			"3:26", "compared with a percentage", "share > 3%"},
		{"a percentage of what is no share", rule("problem \"x\"\nraise error when count > 3% in 5m"), "bad-value",
			"3:26", "only a share", "leave the % out"},
		{"three of two", rule("problem \"x\"\nraise error when count > 3 in 5m, 3 of 2"), "bad-number", "3:40",
			"3 of 2 can never be", "2 of 3"},
		{"two raises in one clause", rule(
			"problem \"x\"\nraise warning at 3 in 5m, error at 20 in 5m\nclear by hand"), "syntax", "3:27",
			"then was expected", "on a line of its own: raise error at 20 in 5m"},
		{"two ways to clear in one clause", rule("problem \"x\"\nrecovery \"y\"\nraise warning\nclear on " +
			"recovery, after 30m quiet"), "syntax", "5:18", "should end before ,",
			"on a line of its own: clear after 30m quiet"},
		{"two clauses on a line", "source s { files \"/x\" layout json }", "syntax", "1:23",
			"should end before layout", "layout begins a clause of its own"},
		{"a number of times", rule("problem \"x\"\nraise error at 3 times in 10m\nclear by hand"), "syntax", "3:18",
			"should end before times", "raise error at 3 in 10m"},
		{"a duration in words", rule("problem \"x\"\nraise error\nclear after 1 hour"), "bad-duration", "4:13",
			"is no duration", "write it as one: 1h"},
		{"without before its time", rule("awaits \"x\"\nraise error without 10m"), "syntax", "3:13",
			"should end before without", "raise error after 10m without"},
		{"at least without its comma", rule("problem \"x\"\nraise error when share > 5% in 5m at least 100\nclear " +
			"by hand"), "syntax", "3:35", "should end before at", "a comma stands before it"},
		{"for so long", rule("problem \"x\"\nraise error for 5m\nclear by hand"), "syntax", "3:13",
			"should end before for", "when min(FIELD) > 80 in 5m"},
		{"every day in a word", rule("awaits \"x\"\nraise error by 06:00 daily without"), "syntax", "3:22",
			"not daily", "by 06:00 without for every day"},
		{"a span with blanks", rule("problem \"x\"\nraise error\nduring 22:00 - 06:00\nclear by hand"), "syntax",
			"4:14", "a dash stands alone", "22:00-06:00"},
		{"not over by then", rule("problem \"x\"\nraise error after 2m\nclear by hand"), "incomplete", "3:21",
			"without or open was expected", "once PROBLEM, awaits RECOVERY, raise error after 2m without"},
		{"without what nothing awaits", rule("problem \"x\"\nraise error after 5m without\nclear by hand"),
			"without-awaits", "3:1", "nothing is awaited", "awaits /…/"},
		{"awaits beside a problem", rule("problem \"x\"\nawaits \"y\"\nraise error after 5m without"),
			"problem-and-awaits", "3:8", "a problem, or it awaits", "two rules"},
		{"awaits with a threshold of hits", rule("awaits \"y\"\nraise error at 3 in 5m"), "awaits-raises", "3:1",
			"after a time without", "after 10m without"},
		{"awaits that clears when it is quiet", rule("awaits \"y\"\nraise error after 5m without\nclear after 1h " +
			"quiet"), "awaits-clears", "4:7", "clears the alert when it comes", "take the clause out"},
		{"hosts by name without per host", rule("awaits \"y\" from \"a\"\nraise error after 5m without"),
			"from-needs-host", "2:8", "need per host alone", "per host"},
		{"among without a share", rule("problem \"x\"\namong \"y\"\nraise error\nclear by hand"), "does-not-apply",
			"3:7", "among is for shares", "share >= 5%"},
		{"the shadow of no rule", rule("problem \"x\"\nraise error\nunless big open\nclear by hand"), "unknown-name",
			"4:8", "no rule \"big\"", ""},
		{"hours that are none", rule("problem \"x\"\nraise error\nduring mon-fri 8-18\nclear by hand"), "bad-time",
			"4:16", "no span of time", "08:00-18:00"},
		{"a day that is none", rule("problem \"x\"\nraise error\nduring monday 08:00-18:00\nclear by hand"),
			"unknown-day", "4:8", "monday is no day", "mon-fri"},
		{"a group of nobody", "group crew {\n about pumps\n}\n", "incomplete", "1:7", "which hosts are in it",
			"hosts"},
		{"tags that go round", "group a {\n hosts where x == \"1\"\n tag y \"1\"\n}\ngroup b {\n" +
			" hosts where y == \"1\"\n tag x \"1\"\n}\n", "circle", "1:7", "depends on", "names or facts"},
		{"a fact that there is not", "group a {\n hosts where colour == \"1\"\n}\n", "unknown-name", "2:14",
			"no fact", "version"},
		{"a block for a group that there is not", "layout l {\n plain\n for pumps\n}\n", "unknown-name", "3:6",
			"no group", ""},
		{"a tag that a host says itself", "group a {\n hosts \"p\"\n tag os \"x\"\n}\n", "bad-name", "3:6",
			"no tag", "another name"},
		{"a then that can never be", rule(strings.Replace(sound, "then raised", "then riased", 1)), "unknown-change",
			"8:10", "nothing is ever", "raised"},
		{"a field in then that is not in the key",
			rule(strings.Replace(sound, "then raised", `then raised pomp "7"`, 1)), "unknown-field", "8:17",
			"not in the key", "did you mean: pump"},
		{"an escape that means nothing", rule(`problem "a\d"` + "\nraise warning"), "bad-escape", "2:11",
			`\d means nothing`, "` and `"},
		{"a flag that there is not", rule("problem /x/g\nraise warning"), "bad-flag", "2:12", `no flag "g"`,
			"i is for"},
		{"no UTF-8", rule("problem \xff\nraise warning"), "not-utf8", "2:9", "0xff", "UTF-8"},
		{"no way to clear", rule("problem \"x\"\nper nothing\nraise warning\nexpect \"x\" {\nat 10:00 \"x\"\nthen " +
			"raised\n}"), "no-way-to-clear", "1:6", "nothing ever clears", "clear by hand"},
		{"a bare number", rule(strings.Replace(sound, `/pump (?<pump>\d+): low/`, `/404/ and /pump (?<pump>\d+)/`,
			1)), "bare-number", "2:9", "also in a longer number", `"404"`},
		{"a condition that stands twice", rule(strings.Replace(sound, `/pump (?<pump>\d+): low/`,
			`/pump (?<pump>\d+): low/ and ("4625" or "4625")`, 1)), "said-twice", "2:49",
			`"4625" stands in the problem`,
			"take one"},
		{"a pattern without any text", rule(strings.Replace(sound, `/pump (?<pump>\d+): low/`, `/(?<pump>\d+)/`, 1)),
			"slow-pattern", "2:9", "every entry is tried", "add a word"},
		{"a capture that nothing uses", rule(strings.Replace(sound, `: low`, `: (?<what>low)`, 1)), "unused-capture",
			"2:9", "nothing uses the group what", "(?:…)"},
		{"a threshold that is never reached first",
			rule(strings.Replace(sound, "raise warning", "raise warning at 9 in 5m\nraise error at 3 in 5m", 1)),
			"unreachable", "4:3", "warning is never shown", "higher threshold"},
		{"a count for ever", rule(strings.Replace(sound, "raise warning", "raise warning at 9", 1)),
			"counts-for-ever", "4:3", "without a time", "at 9 in 5m"},
		{"a recovery that never agrees", rule(sound + "\nrecovery /pump (?<pump>[a-z]+) fine/"),
			"recovery-never-agrees", "10:10", "never equals", "capture the same"},
		{"a recovery of the same lines", rule(sound + "\nrecovery /pump (?<pump>\\d+): low/"), "same-lines", "10:10",
			"the same lines as the problem", "when it is over"},
		{"a key that is masked", "source s {\n files \"/x\"\n layout l\n}\nlayout l {\n pattern /(?<pump>a)/\n " +
			"mask pump keep last 1\n}\n" + rule(sound), "masked-key", "11:7", "a stand-in for its value is the key",
			"mask pump as token"},
		{"a key of what a pattern masks", "source s {\n files \"/x\"\n layout l\n}\nlayout l {\n pattern " +
			"/(?<a>a)/\n mask /pump (?<n>\\d+): low/\n}\n" + rule(sound), "masked-key", "11:7", "a stand-in",
			"leave out of the mask"},
		{"a text of what is masked", "source s {\n files \"/x\"\n layout l\n}\nlayout l {\n pattern /(?<who>a)/\n " +
			"mask who\n}\n" + rule(sound+"\nsay \"{who}\""), "masked-value", "18:5", "says ***", "mask who as token"},
		{"a layout that includes itself", "layout a {\n include b\n}\nlayout b {\n include a\n}\n", "include-circle",
			"5:10", "includes itself", "take one of them out"},
		{"columns without names", "layout l {\n delimited \";\"\n}\n", "incomplete", "2:2",
			"the columns have no names", "header"},
		{"a file of words that is not there", "layout l {\n json\n names x from file \"x.csv\"\n}\n", "no-file",
			"3:20", "there is no file x.csv", "a value and its word a line"},
		{"a unit of what is no duration", "layout l {\n json\n type x integer in ms\n}\n", "syntax", "3:17",
			"only a duration has a unit", "leave the unit out"},
		{"a step about a field that nothing gives", "layout l {\n pattern /(?<pump>a)/\n map pomp to x\n}\n",
			"unknown-field", "3:6", "gives the field pomp", "did you mean: pump"},
		{"a name that is one already", "layout l {\n json\n map x to x\n}\n", "does-not-apply", "3:11",
			"has that name already", "take the clause out"},
		{"a mask of nothing", "layout l {\n json\n mask\n}\n", "incomplete", "3:6",
			"a field, or a pattern was expected", "a field's name"},
		{"three readings of a time", "layout l {\n pattern /(?<at>\\S+ \\S+)/\n time at like \"03-04-05 " +
			"05:00:00\"\n}\n", "bad-time-example", "3:15", "three readings", "year first"},
		{"a zone that nobody knows", "layout l {\n pattern /(?<at>.+)/\n time at like \"2026-11-24 05:00:00 " +
			"XYZ\"\n}\n", "bad-time-example", "3:15", "the zone \"XYZ\"", "zone"},
		{"a letter that stands for nothing", "layout l {\n pattern /(?<at>.+)/\n time at strftime \"%Y-%Q\"\n}\n",
			"bad-time-example", "3:19", "%Q is not known", "like"},
		{"no test", "rule r {\nproblem \"x\"\nper nothing\nraise warning\nclear by hand\n}\n", "untested", "1:6",
			"no expect tests r", "expect"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, ds := check(c.src)
			var all []string
			for _, d := range ds {
				all = append(all, d.String())
				if d.Code == c.code {
					assert.Equal(t, c.place, strings.TrimPrefix(d.Pos.String(), "t.lantern:"))
					assert.Contains(t, d.What, c.what)
					assert.Contains(t, d.Mend, c.mend)
					assert.Contains(t, d.String(), "^", "a caret below the place")
				}
			}
			require.Len(t, ds, 1, "one mistake, one message:\n%s", strings.Join(all, "\n"))
			require.Equal(t, c.code, ds[0].Code, ds[0].String())
		})
	}
}

func TestSeveralMistakesInOneFile(t *testing.T) {
	_, ds := check("rule a {\n  problme \"x\"\n}\n\nrule b {\n  problem /(/\n  raise warning at x\n  clear " +
		"sometimes\n}\n\nlayout l { pattern \"x\" }\n")
	var places []int
	for _, d := range ds {
		places = append(places, d.Pos.Line)
	}
	assert.Equal(t, []int{2, 6, 7, 8, 11}, places)
}

func TestWhatIsRightRunsBesideWhatIsWrong(t *testing.T) {
	s, ds := check(rule(sound) + "rule q {\n  problem /(/\n}\n")
	require.True(t, lang.Errors(ds))
	require.Len(t, s.Rules, 1)
	assert.Equal(t, "r", s.Rules[0].Name)
}

// Where a clause ends, and where it goes on.
func TestClauseEnds(t *testing.T) {
	for src, want := range map[string]string{
		"problem \"a\" and\n  \"b\"":                        `"a" and "b"`,
		"problem \"a\" or # why\n  # and why\n  \"b\"":      `"a" or "b"`,
		"problem (\"a\"\n  or \"b\")\n and":                 "",
		"problem not\n \"a\"":                               `not "a"`,
		"problem (\"a\"\n  or \"b\"\n)":                     `"a" or "b"`,
		"problem x in (1,\n 2..3, \"y\")":                   `x in (1, 2..3, "y")`,
		"problem \"a\" or \"b\" and \"c\"":                  `"a" or "b" and "c"`,
		"problem (\"a\" or \"b\") and not (\"c\" or \"d\")": `("a" or "b") and not ("c" or "d")`,
		"problem \"a\"\nproblem \"b\"":                      `"a" or "b"`,
		"problem size > 10 MB and t >= 1h30m":               `size > 10 MB and t >= 1h30m`,
		"problem re`a/b` and x !~ /c\\/d/i":                 "re`a/b` and x !~ re`(?i)c/d`",
		"problem level >= warning":                          "level >= warning",
		"problem a in (10.0.0.0/8, ::1, fe80::/10)":         "a in (10.0.0.0/8, ::1, fe80::/10)",
		"problem has x and lacks y":                         "has x and lacks y",
		"problem fits == false":                             "fits == false",
	} {
		s, _ := check("rule r {\n" + src + "\n raise error\n clear by hand\n}\n")
		if want == "" {
			assert.Empty(t, s.Rules, src)
			continue
		}
		if assert.Len(t, s.Rules, 1, src) {
			assert.Equal(t, want, s.Rules[0].Problem.String(), src)
		}
	}
}

func TestFormat(t *testing.T) {
	const in = `
# first words

source   a{files "/x"}
source b { files "/y" }   # behind
rule r
{
problem "x"   and   # the first
"y"
 # before raise
    raise warning   at 3   in 5m


    clear by hand
 expect  "t" {
   at   10:00 "x y"
 then nothing }
 # at the end
}
# last words`
	const want = `# first words

source a { files "/x" }
source b { files "/y" }  # behind

rule r {
  problem "x" and  # the first
          "y"
  # before raise
  raise   warning at 3 in 5m

  clear   by hand
  expect "t" {
    at 10:00 "x y"
    then nothing
  }
  # at the end
}

# last words
`
	f := lang.Parse("t", []byte(in))
	require.Empty(t, f.Diagnostics())
	assert.Equal(t, want, f.Format())
	assert.Equal(t, want, lang.Parse("t", []byte(want)).Format(), "the canonical form stays as it is")
}

// words of the language, from which texts are put together that are mostly
// nearly right.
var words = []string{"rule", "r", "{", "}", "\n", "\n", "problem", `"x y"`, "/a(?<b>c)/", "and", "or", "not", "(",
	")", "raise",
	"warning", "at", "3", "in", "5m", "clear", "after", "quiet", "by", "hand", "# c", "\n", ",", "per", "host",
	"source", "files",
	"layout", "expect", "then", "raised", "on", "recovery", "10:00", "==", "~", "\r\n", "`t`", "é", "level", ">="}

func draw(t *rapid.T) string {
	list := rapid.SliceOfN(rapid.SampledFrom(words), 0, 60).Draw(t, "words")
	return strings.Join(list, " ")
}

// Formatting loses nothing and changes no meaning: the form of what was formatted
// is itself, and whatever parsed without errors still does.
func TestFormatIsStable(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		stable(t, draw(t))
	})
}

func stable(t require.TestingT, src string) {
	f := lang.Parse("t", []byte(src))
	if lang.Errors(f.Diagnostics()) {
		return
	}
	once := f.Format()
	g := lang.Parse("t", []byte(once))
	require.Empty(t, g.Diagnostics(), "%q became %q", src, once)
	require.Equal(t, once, g.Format(), "%q", src)
	for _, c := range []string{"#"} {
		require.Equal(t, strings.Count(src, c), strings.Count(once, c), "%q became %q", src, once)
	}
	a, x := lang.Check([]*lang.File{lang.Parse("t", []byte(src))}, lang.Env{Time: layout.CheckTime})
	b, y := lang.Check([]*lang.File{lang.Parse("t", []byte(once))}, lang.Env{Time: layout.CheckTime})
	require.Equal(t, len(x), len(y), "%q became %q", src, once)
	require.Equal(t, len(a.Rules), len(b.Rules))
}

func FuzzParse(f *testing.F) {
	list, _ := filepath.Glob("../../demo/settings/*.lantern")
	for _, n := range list {
		b, err := os.ReadFile(n)
		require.NoError(f, err)
		f.Add(string(b))
	}
	f.Add("rule r { problem /a\\/b/i or re`x` or `y` }")
	f.Fuzz(func(t *testing.T, src string) {
		file := lang.Parse("t", []byte(src))
		if strings.Contains(src, "#") || strings.ContainsAny(src, "\"/`") {
			file.Format()
		} else {
			stable(t, src)
		}
		_, ds := lang.Check([]*lang.File{lang.Parse("t", []byte(src))}, lang.Env{Time: layout.CheckTime})
		for _, d := range ds {
			_ = d.String()
		}
	})
}

func TestTemplate(t *testing.T) {
	assert.Equal(t, []lang.Part{{Text: "Pump "}, {Field: "pump"}, {Text: " at {"}, {Field: "host"},
		{Text: "} {not this} {"}},
		lang.Template("Pump {pump} at {{host}} {not this} {"))
	assert.Empty(t, lang.Template(""))
}

// Needs finds literals that no fitting text can lack.
func TestNeeds(t *testing.T) {
	for src, want := range map[string]string{
		`pump (?<pump>\d+): pressure low`: ": pressure low",
		`(red|green) lamp`:                "red lamp|green lamp",
		`colou?r`:                         "color|colour",
		`\d+`:                             "",
		`a.*`:                             "",
		`(?i)Öl level`:                    "l level",
		`(?i)kiss`:                        "kiss",
		`(abc)+`:                          "abc",
		`^ab$`:                            "ab",
		`x{3}y`:                           "xxxy",
		`(a|)bcd`:                         "abcd|bcd",
	} {
		s, _ := check("rule r {\n problem re`" + src + "`\n raise error\n clear by hand\n}\n")
		require.Len(t, s.Rules, 1, src)
		var got []string
		for _, l := range lang.Needs(s.Rules[0].Problem.(*lang.Match).Pattern) {
			got = append(got, l.Text)
		}
		assert.ElementsMatch(t, strings.FieldsFunc(want, func(r rune) bool { return r == '|' }), got, src)
	}
}

// Files that are made to be slow, or to nest for ever, end soon with messages.
func TestHostileFiles(t *testing.T) {
	for _, s := range []string{"{", "rule x {", "(", "rule r {\n problem (", "a ", "\"", "a\n", "=",
		"rule r { problem not ", "expect \"x\" {"} {
		_, ds := check("rule r {\n problem " + strings.Repeat(s, 50_000))
		require.NotEmpty(t, ds, s)
	}
}
