package match_test

import (
	"fmt"
	"math/big"
	"net/netip"
	"regexp"
	"strings"
	"testing"
	"time"
	"unicode"
	"unicode/utf8"

	"dimlantern/core/verdict"

	"github.com/stretchr/testify/require"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
)

// The matcher, which searches for fragments in whole blocks, finds the lines that the
// plain regular expression finds line by line, whatever the pattern and the text.
func FuzzMatcher(f *testing.F) {
	for _, p := range problems {
		f.Add(strings.Trim(p, "/"), strings.Join(texts, "\n"))
	}
	for _, p := range []string{`(red|green|blue) lamp`, `(?i)kiss`, `^a`, `b$`, `[ab]{2,3}c`, `(?s).`, `low(er)?`,
		`\bpump\b`, `x*`, `(?:ab|a)c`, `é|ſ`} {
		f.Add(p, "red lamp\nKISS \u212aiss\nabc aab\nlower\n\nac é ſ")
	}
	f.Fuzz(func(t *testing.T, pattern, text string) {
		if strings.ContainsAny(pattern, "`\n\r\x00") || strings.ContainsAny(text, "\r\x00") ||
			!utf8.ValidString(pattern) || !utf8.ValidString(text) || len(text) > 4000 {
			return
		}
		re, err := regexp.Compile(pattern)
		if err != nil {
			return
		}
		src := "source s {\n files \"/x\"\n}\nrule a {\n problem re`" + pattern +
			"`\n raise error\n clear by hand\n}\nrule b {\n problem /pump (?<k>\\d+): low/\n raise error\n clear " +
			"by hand\n}\nrule c {\n problem \"lamp\"\n raise error\n clear by hand\n}\n"
		s, ds := lang.Check([]*lang.File{lang.Parse("t", []byte(src))}, lang.Env{Time: layout.CheckTime})
		if lang.Errors(ds) || s.Rule("a") == nil {
			return // the language has bounds of its own
		}
		lines := strings.Split(text, "\n")
		var want, got []int64
		at := int64(0)
		for _, l := range lines {
			if re.MatchString(l) {
				want = append(want, at)
			}
			at += int64(len(l)) + 1
		}
		r := match.NewReader(match.NewPlan(s, s.Sources[0], s.Rules, time.UTC), "h:/x", "h", false)
		r.Scan([]byte(text+"\n"), 0, 0, func(j *verdict.Judged) {
			for _, v := range j.Verdicts {
				if s.Rules[v.Rule].Name == "a" {
					got = append(got, j.Entry.Offset)
				}
			}
		}, nil)
		require.Equal(t, want, got, "%q over %q", pattern, text)
	})
}

// What an expression answers is what the page on meaning says, whatever stands in it and
// in the fields.
func FuzzEval(f *testing.F) {
	for _, x := range []string{`n == 404`, `n != 4.0e1`, `word < "b" or /pump (?<p>\d)/ and p == 7`,
		`not word == "x" and lacks empty`, `level >= warning`, `n in (1, 4..9kB)`,
		`ip in (10.0.0.0/8)`, `took > 1m30s`, `"7 low" and not "lo"`, `(/p(?<n>\d)/ and "no") or n == 4`,
		`word !~ /x/i`, `has n and (n > 1 or n < 0)`} {
		f.Add(x, "404", "abc", "warn", "10.1.2.3", "1m30s", "pump 7 low")
		f.Add(x, "5%", "", "Critical", "fe80::1", "90s", "p4 slow 7 low")
	}
	f.Fuzz(func(t *testing.T, x, n, word, level, ip, took, raw string) {
		if strings.ContainsAny(x, "{}#\n\r") || len(x) > 200 || !utf8.ValidString(raw) {
			return
		}
		s, ds := lang.Check([]*lang.File{lang.Parse("t",
			[]byte("rule r {\n problem "+x+"\n raise error\n clear by hand\n}\n"))}, lang.Env{Time: layout.CheckTime})
		r := s.Rule("r")
		if lang.Errors(ds) || r == nil || r.Problem == nil {
			return
		}
		e := &entry.Entry{Host: "h", Origin: "h:/x", Raw: raw, Fits: true, Fields: []entry.Field{
			{Name: "n", Value: n}, {Name: "word", Value: word}, {Name: "level", Value: level},
			{Name: "ip", Value: ip}, {Name: "took", Value: took}}}
		known := map[string]string{"text": raw, "host": "h", "origin": "h:/x", "fits": "true"}
		for _, f := range e.Fields {
			known[f.Name] = f.Value
		}
		want, _, sure := slowly(r.Problem, raw, known)
		if !sure {
			return
		}
		require.Equal(t, want, match.Eval(r.Problem, &match.Subject{Entry: e}), "%s with %q", r.Problem, known)
	})
}

// slowly evaluates an expression in the most obvious way: what is known goes in, and what
// is known behind it comes out. It is not sure about instants and huge exponents.
func slowly(x lang.Expr, text string, known map[string]string) (holds bool, then map[string]string, sure bool) {
	switch x := x.(type) {
	case *lang.And:
		then = known
		for _, p := range x.Of {
			ok, more, sure := slowly(p, text, then)
			if !sure || !ok {
				return false, known, sure
			}
			then = more
		}
		return true, then, true
	case *lang.Or:
		for _, p := range x.Of {
			if ok, more, sure := slowly(p, text, known); !sure || ok {
				return ok, more, sure
			}
		}
		return false, known, true
	case *lang.Not:
		ok, _, sure := slowly(x.Of, text, known)
		return !ok, known, sure
	case *lang.Phrase:
		return phrase(text, x.Text), known, true
	case *lang.Has:
		return (known[x.Field] != "") != x.Lacks, known, true
	case *lang.Match:
		v := text
		if x.Field != "" && x.Field != "text" {
			if v = known[x.Field]; v == "" {
				return false, known, true
			}
		} else if x.Field == "text" && v == "" {
			return false, known, true
		}
		m := x.Pattern.Re().FindStringSubmatchIndex(v)
		if x.Neg || m == nil {
			return (m != nil) != x.Neg, known, true
		}
		then = map[string]string{}
		for k, v := range known {
			then[k] = v
		}
		for i, name := range x.Pattern.Re().SubexpNames() {
			if name != "" && m[2*i] >= 0 {
				then[name] = v[m[2*i]:m[2*i+1]]
			}
		}
		return true, then, true
	case *lang.Compare:
		v := known[x.Field]
		if v == "" {
			return false, known, true
		}
		ok, sure := against(v, x.Op, x.Value)
		return ok, known, sure
	case *lang.In:
		v := known[x.Field]
		for _, w := range x.Values {
			if ok, sure := against(v, "==", w); v != "" && (ok || !sure) {
				return ok, known, sure
			}
		}
		return false, known, true
	}
	return false, known, false
}

func against(v, op string, w lang.Value) (ok, sure bool) {
	by := func(c int) (bool, bool) {
		return map[string]bool{"==": c == 0, "!=": c != 0, "<": c < 0, "<=": c <= 0, ">": c > 0, ">=": c >= 0}[op],
			true
	}
	other := func() (bool, bool) { return op == "!=", true }
	switch w.Kind {
	case lang.TextValue:
		return by(strings.Compare(v, w.Text))
	case lang.NumberValue, lang.RangeValue:
		a, is, sure := number(v)
		if !sure {
			return false, false
		}
		lo, ok1 := w.Number.Rat()
		hi, ok2 := w.Upper.Rat()
		if w.Kind == lang.RangeValue {
			return is && a.Cmp(lo) >= 0 && a.Cmp(hi) <= 0, ok1 && ok2
		}
		if !is {
			return other()
		}
		if !ok1 {
			return false, false
		}
		return by(a.Cmp(lo))
	case lang.DurationValue:
		d, is := span(v)
		if !is {
			return other()
		}
		return by(d.Cmp(big.NewRat(int64(w.Duration), 1)))
	case lang.LevelValue:
		weights := map[string]int{"debug": 1, "trace": 1, "verbose": 1, "info": 2, "information": 2, "notice": 3,
			"warning": 4, "warn": 4, "error": 5, "err": 5,
			"critical": 6, "crit": 6, "fatal": 6, "alert": 7, "emergency": 8, "emerg": 8, "panic": 8}
		a, b := weights[strings.ToLower(v)], weights[strings.ToLower(w.Src)]
		if strings.ToLower(v) != v && strings.ToUpper(v) != v && a == 0 || !ascii(v) {
			return false, false
		}
		if a == 0 {
			return other()
		}
		return by(a - b)
	case lang.AddressValue, lang.NetValue:
		a, err := netip.ParseAddr(v)
		if err != nil {
			return other()
		}
		if a.Zone() != "" || a.Is4In6() {
			return false, false
		}
		return w.Net.Contains(a) != (op == "!="), true
	}
	return false, false
}

func ascii(s string) bool {
	return strings.IndexFunc(s, func(r rune) bool { return r >= utf8.RuneSelf }) < 0
}

var numeral = regexp.MustCompile(`^([+-]?[0-9]+(?:\.[0-9]+)?)(?:[eE]([+-]?[0-9]+))?(%|kB|MB|GB|KiB|MiB|GiB)?$`)

func number(v string) (n *big.Rat, is, sure bool) {
	m := numeral.FindStringSubmatch(v)
	if m == nil {
		return nil, false, true
	}
	if len(m[2]) > 4 || len(m[1]) > 300 {
		return nil, false, false
	}
	n, _ = new(big.Rat).SetString(strings.TrimPrefix(m[1], "+"))
	exp := 0
	fmt.Sscan(m[2], &exp)
	ten := new(big.Rat).SetInt(new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(max(exp, -exp))), nil))
	if exp < 0 {
		ten.Inv(ten)
	}
	unit := map[string]int64{"kB": 1e3, "MB": 1e6, "GB": 1e9, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30}[m[3]]
	return n.Mul(n, ten).Mul(n, big.NewRat(max(unit, 1), 1)), true, true
}

// span reads a duration as rules write it: its units from large to small, each at most
// once.
var spans = regexp.MustCompile(`^(?:([0-9]+)w)?(?:([0-9]+)d)?(?:([0-9]+)h)?(?:([0-9]+)m)?(?:([0-9]+)s)?(?:([0-9]+)` +
	`ms)?$`)

func span(v string) (*big.Rat, bool) {
	m := spans.FindStringSubmatch(v)
	if m == nil || v == "" {
		return nil, false
	}
	sum := new(big.Int)
	for i, unit := range []time.Duration{7 * 24 * time.Hour, 24 * time.Hour, time.Hour, time.Minute, time.Second,
		time.Millisecond} {
		if m[i+1] != "" {
			n, _ := new(big.Int).SetString(m[i+1], 10)
			sum.Add(sum, n.Mul(n, big.NewInt(int64(unit))))
		}
	}
	return new(big.Rat).SetInt(sum), sum.IsInt64()
}

// phrase tells whether a phrase stands in a text as whole words.
func phrase(text, phrase string) bool {
	word := func(r rune) bool {
		return r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsMark(r)
	}
	t, p := []rune(text), []rune(phrase)
	for i := 0; i+len(p) <= len(t); i++ {
		if string(t[i:i+len(p)]) != phrase {
			continue
		}
		left := len(p) > 0 && word(p[0]) && i > 0 && word(t[i-1])
		right := len(p) > 0 && word(p[len(p)-1]) && i+len(p) < len(t) && word(t[i+len(p)])
		if !left && !right {
			return true
		}
	}
	return false
}
