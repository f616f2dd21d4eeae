package author

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Slot is a place in a text where others that say the same have something else.
type Slot struct {
	From, To int      // in the text, bytes
	Name     string   // how its values are called; "" where nothing says so
	Values   []string // what was seen there, each once, the most frequent first
	N        int      // in so many texts
	Why      string   // why it identifies nothing; "" where it does
	Always   bool     // what it is called is known to identify
}

// Several are what one text says, and others with it.
type Several struct {
	Text  string
	Slots []Slot
	N     int // texts, this one with them
}

// A word that is followed by what identifies something, by a name of it or without one.
var (
	identifying = words(`account array barge beacon berth boat buoy client component container core cpu crane database
		desk device
		disk door drive ferry gate gauge group host instance interface job lane line lock login machine member mount
		nic node plant pod pump queue reader room sensor server service ship site station store table topic unit user
		username valve vessel volume zone`)
	differing = words(`attempt attempts bytes code conn connection count delay duration elapsed epoch
		errno error exit fd gid id in index latency length level line lines ms msec no number
		offset percent pid port ports position pressure process request requests req retries retry
		rate seconds sec seq sequence serial session sid signal size speed status step temperature
		temp thread tid time times timeout took total tries try txn uid value version volts after
		at usec xid`)
	small = words(`a an and are as at be by for from has in into is it its no not of off on or over set than that the
		then this to under up via was were with`)
	// Those of them behind which a name stands that can be any.
	giving = words(`account by client container database device disk for from gate group host instance interface job
		machine member mount node of pod queue server service table topic unit user volume`)
	// people are called by any name, whatever was seen.
	people = words(`account login user username`)
	// stating are words that say how something is: another of them is another state, never another value.
	stating = words(`accepted active alive available bad begins blocked broken changed closed complete
		completed configured connected critical dead degraded denied disabled disconnected done
		down enabled ended ends error expired failed failure false fine finished free full good
		granted healthy high idle inactive installed invalid lit lost low missing new no none
		normal off offline ok on online open opened over passed paused ready recovered refused
		rejected released restored resumed running shut started starting stopped stopping succeeded
		success successful true unavailable unhealthy unpacked unreachable up valid warm warning
		yes`)

	// Letters and digits in one, and digits alone.
	runs    = regexp.MustCompile(`[0-9A-Za-z]{8,}`)
	digits  = regexp.MustCompile(`\d+`)
	numbers = regexp.MustCompile(`\d+(?:[.:,]\d+)*`)
	before  = regexp.MustCompile(`(?:^|[\s"'(\[{<,;=|])([A-Za-z][A-Za-z_-]*)([\t #:=\["'(<]{1,3})$`)
	address = regexp.MustCompile(`^(?:\d{1,3}(?:\.\d{1,3}){3}|[0-9a-fA-F:]*::[0-9a-fA-F:.]*|` +
		`(?:[0-9a-fA-F]{1,4}:){7}[0-9a-fA-F]{1,4})$`)
	// code is a word that has more than letters in it.
	code     = regexp.MustCompile(`[\p{L}\d][:/._@+][\p{L}\d]|\d`)
	ofSystem = regexp.MustCompile(`\.(?:service|socket|timer|mount|target|path|scope|slice)$`)
	sign     = regexp.MustCompile(`(?i)passw|login|log-?in|sign|auth|session|\buser|publickey|sudo|\bsu\b`)
)

func words(list string) map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(list) {
		out[w] = true
	}
	return out
}

// same is a word with its numbers taken for one.
func same(word string) string { return numbers.ReplaceAllString(word, "0") }

// spaced are the words of a text, between blanks or tabulators of one byte each.
func spaced(text string) []string { return strings.Split(strings.ReplaceAll(text, "\t", " "), " ") }

// machine finds in a word what no person has named: an address in memory, a hash, an identifier with
// letters and digits mixed.
func machine(word string) [][]int {
	return slices.DeleteFunc(runs.FindAllStringIndex(word, -1), func(m []int) bool {
		s := word[m[0]:m[1]]
		n := len(digits.FindAllString(s, -1))
		hex := strings.Trim(s, "0123456789abcdef") == "" && strings.ContainsAny(s, "abcdef")
		cases := strings.ToLower(s) != s && strings.ToUpper(s) != s
		return !(n >= 3 && len(s) >= 12 || n >= 2 && (hex || cases && len(s) >= 10))
	})
}

// Over finds where a text and others that say the same differ. Those of one kind with it do in any
// case; of others those do that differ only in names of things.
func Over(text string, kind, others []string) Several {
	v := Several{Text: text}
	own := spaced(text)
	all := [][]string{own}
	differs := make([]bool, len(own))
	for i, list := range [][]string{kind, others} {
		for _, t := range list {
			w := spaced(t)
			if len(w) != len(own) {
				continue
			}
			var at []int
			for k := range w {
				if same(w[k]) != same(own[k]) {
					at = append(at, k)
				}
			}
			if i == 1 && !alike(own, w, at) {
				continue
			}
			for _, k := range at {
				differs[k] = true
			}
			all = append(all, w)
		}
	}
	v.N = len(all)
	at := 0
	for k, w := range own {
		switch {
		case differs[k]:
			from, to := inner(k, all)
			v.Slots = append(v.Slots, v.slot(at+from, at+len(w)-to, func(list []string) string {
				return list[k][from : len(list[k])-to]
			}, all))
		default:
			v.numbered(k, at, w, all)
			v.joined(k, at, w, all)
		}
		at += len(w) + 1
	}
	return v
}

// numbered opens the numbers of a word, and what letters and digits are mixed in as a whole.
func (v *Several) numbered(k, at int, w string, all [][]string) {
	mixed := machine(w)
	for n, m := range numbers.FindAllStringIndex(w, -1) {
		for len(mixed) > 0 && mixed[0][1] <= m[0] {
			mixed = mixed[1:]
		}
		if len(mixed) == 0 || m[1] <= mixed[0][0] {
			v.Slots = append(v.Slots, v.slot(at+m[0], at+m[1], func(list []string) string {
				return numbers.FindAllString(list[k], -1)[n]
			}, all))
			continue
		}
		from, to := at+mixed[0][0], at+mixed[0][1]
		if n := len(v.Slots); n == 0 || v.Slots[n-1].To < to { // at its first number
			v.Slots = append(v.Slots, Slot{From: from, To: to, N: len(all), Values: []string{v.Text[from:to]},
				Why: "nothing says what it is"})
		}
	}
}

// joined lets the only number of a word, which has letters before it and is not always the same, be one
// with them where that is called something: disk sda1, gate-a2.
func (v *Several) joined(k, at int, w string, all [][]string) {
	n := len(v.Slots) - 1
	m := numbers.FindAllStringIndex(w, -1)
	if len(m) != 1 || len(v.Slots[n].Values) < 2 {
		return
	}
	from, to := m[0][0], m[0][1]
	for from > 0 && (alnum(w[from-1]) || strings.IndexByte("-_.", w[from-1]) >= 0) {
		from--
	}
	for to < len(w) && alnum(w[to]) {
		to++
	}
	if from == m[0][0] {
		return
	}
	x := v.slot(at+from, at+to, func(list []string) string {
		own := list[k]
		return own[from : len(own)-(len(w)-to)]
	}, all)
	if kind := strings.ToLower(strings.TrimRight(w[from:m[0][0]], "-_.")); x.Name == "" || !x.Always {
		if i := strings.IndexAny(kind, "-_."); i > 0 {
			kind = kind[:i]
		}
		if x.Name == "" && identifying[kind] {
			x.Name, x.Always = kind, true
			x.Why = v.why(&x)
		}
	}
	if x.Name != "" && x.Why == "" {
		v.Slots[n] = x
	}
}

// alike tells whether two texts of as many words, that differ in some, say the same of other things: at
// least a third of their words is the same then, of those that are words, and where two thirds are not,
// all that differ have a form that only names and values have.
func alike(own, other []string, at []int) bool {
	coded := 0
	for _, k := range at {
		switch {
		case own[k] == "" || other[k] == "":
			return false
		case k > 0 && code.MatchString(own[k]) && code.MatchString(other[k]) && !states(own[k]) &&
			!states(other[k]) && !strings.Contains(own[k]+other[k], "="):
			coded++
		case !names(own, k, other[k]):
			return false
		}
	}
	if len(at)-coded > max(1, len(own)/3) {
		return false
	}
	if len(at) <= max(1, len(own)/3) {
		return true
	}
	same := 0
	for k, w := range own {
		if !slices.Contains(at, k) && !code.MatchString(w) && strings.Trim(w, "-=:<>[](){}|") != "" {
			same++
		}
	}
	return same >= 2 && same*3 >= len(own)
}

// states tells whether a word says how something is, or a part of it does.
func states(word string) bool {
	parts := strings.FieldsFunc(strings.ToLower(word), func(r rune) bool { return r < 0x80 && !alnum(byte(r)) })
	return slices.ContainsFunc(parts, func(s string) bool { return stating[s] })
}

// names tells whether a word of a text and another one in its place are names of things.
func names(own []string, at int, other string) bool {
	plain := func(s string) string { return strings.ToLower(strings.Trim(s, ".,;:!?()[]{}\"'<>")) }
	i, k := strings.IndexByte(own[at], '='), strings.IndexByte(other, '=')
	if i > 0 && i == k && own[at][:i] == other[:k] {
		return !stating[plain(own[at][i+1:])] && !stating[plain(other[k+1:])]
	}
	switch {
	case stating[plain(own[at])] || stating[plain(other)]:
		return false
	case at == 0: // it is called by its kind, as in nginx.service
		i, k := strings.LastIndexByte(own[at], '.'), strings.LastIndexByte(other, '.')
		return i > 0 && k > 0 && len(own[at])-i > 2 && own[at][i:] == other[k:]
	}
	return giving[plain(own[at-1])]
}

// inner is how much all words of a place begin and end with, where that is no part of a word.
func inner(k int, all [][]string) (head, tail int) {
	w := all[0][k]
	common := func(n int, at func(s string, n int) byte) bool {
		for _, list := range all {
			if len(list[k]) <= n || at(list[k], n) != at(w, n) {
				return false
			}
		}
		return !alnum(at(w, n))
	}
	if i := strings.IndexByte(w, '='); i > 0 &&
		!slices.ContainsFunc(all, func(list []string) bool { return !strings.HasPrefix(list[k], w[:i+1]) }) {
		head = i + 1
	}
	for common(head, func(s string, n int) byte { return s[n] }) {
		head++
	}
	for common(tail, func(s string, n int) byte { return s[len(s)-1-n] }) {
		tail++
	}
	for _, list := range all { // it has to leave something
		if len(list[k]) <= head+tail {
			return 0, 0
		}
	}
	return head, tail
}

// slot is what all texts have in one place of the first.
func (v *Several) slot(from, to int, of func([]string) string, all [][]string) Slot {
	x := Slot{From: from, To: to, N: len(all)}
	count := map[string]int{}
	for _, list := range all {
		value := of(list)
		if count[value]++; count[value] == 1 {
			x.Values = append(x.Values, value)
		}
	}
	slices.SortStableFunc(x.Values, func(a, b string) int { return count[b] - count[a] })
	x.Name, x.Always = v.called(from, to)
	x.Why = v.why(&x)
	return x
}

// called is how what stands there is called, by the word before it, and whether that names something.
func (v *Several) called(from, to int) (name string, always bool) {
	m := before.FindStringSubmatch(v.Text[:from])
	value := v.Text[from:to]
	word := ""
	if m != nil {
		word = strings.ToLower(m[1])
	}
	switch {
	case address.MatchString(value):
		return "address", false
	case m == nil && ofSystem.MatchString(value):
		return "unit", true
	case word == "" || word == "at" || strings.ContainsAny(m[2], "[(") && !identifying[word]:
		return "", false
	case (word == "for" || word == "by") && sign.MatchString(v.Text) && strings.Trim(value, "0123456789.:,") != "":
		return "account", true
	case small[word] || states(word):
		return "", false
	case lang.Reserved(word) || slices.Contains(entry.BuiltIn, word) && word != "host" && word != "account" ||
		!lang.IsName(word):
		return "", false
	}
	return word, identifying[word]
}

// why says why a slot identifies nothing; "" where it does.
func (v *Several) why(x *Slot) string {
	value := v.Text[x.From:x.To]
	behind := ""
	if x.To < len(v.Text) {
		behind = v.Text[x.To : x.To+1]
	}
	if behind == "." && (x.To+1 == len(v.Text) || v.Text[x.To+1] == ' ') { // the end of a sentence
		behind = ""
	}
	plain := strings.Trim(value, "0123456789") == ""
	number := strings.Trim(value, "0123456789.:,") == ""
	last := strings.LastIndexAny(v.Text[:x.From], " ") + 1
	switch {
	case x.Name == "" && len(x.Values) < 2:
		return "nothing says what it is"
	case number && !plain && x.Name != "address":
		return "it is a measured value or a time"
	case number && behind != "" && behind != " " && strings.IndexByte(`,;)]}"':/`, behind[0]) < 0:
		return "it is a measured value"
	case plain && x.From > last && alnum(v.Text[x.From-1]):
		return "it is part of a word"
	case x.N >= 4 && len(x.Values)*2 > x.N && (!x.Always || x.N >= 10 && len(x.Values)*5 > x.N*4):
		return "it is another one nearly each time"
	case x.N >= 4 && len(x.Values) == 1 && !x.Always:
		return "it is always the same"
	case !x.Always && differing[x.Name]:
		return "it is a value, and no name of anything"
	case x.N < 4 && !x.Always:
		return "too few were seen to tell"
	case x.Name == "":
		return "nothing says what it is"
	case plain && !x.Always && v.Text[x.From-1] == '=':
		return "it is a number, and nothing says of what"
	}
	return ""
}

// Key is the slot by which hits are best told apart; nil where none is.
func (v *Several) Key() *Slot {
	var best *Slot
	for i := range v.Slots {
		x := &v.Slots[i]
		if x.Why != "" {
			continue
		}
		if best == nil || x.Always && !best.Always {
			best = x
		}
	}
	return best
}

// Pattern is a pattern of the language that all the texts match: what is the same in them stays, what is
// not, and numbers, is left open. The key's slot has its name; nil names none.
func (v *Several) Pattern(key *Slot) string {
	var b strings.Builder
	at := 0
	plain := func(text string) {
		b.WriteString(hidden.ReplaceAllString(regexp.QuoteMeta(text), `\S+`))
	}
	for i := range v.Slots {
		x := &v.Slots[i]
		plain(v.Text[at:x.From])
		open := v.opened(x)
		if key != nil && x.From == key.From {
			open = "(?<" + key.Name + ">" + open + ")"
		}
		b.WriteString(open)
		at = x.To
	}
	plain(v.Text[at:])
	return "/" + strings.ReplaceAll(b.String(), "/", `\/`) + "/"
}

// opened is a pattern for the values of a slot.
func (v *Several) opened(x *Slot) string {
	all := func(set string) bool {
		return !slices.ContainsFunc(x.Values, func(s string) bool { return strings.Trim(s, set) != "" || s == "" })
	}
	text := v.Text[x.From:x.To]
	if m := machine(text); len(m) == 1 && m[0][1]-m[0][0] == len(text) && len(x.Values) == 1 {
		return `\w+`
	}
	if at := numbers.FindStringIndex(text); at != nil && at[0] > 0 && !people[x.Name] &&
		!slices.ContainsFunc(x.Values, func(s string) bool { return same(s) != same(text) }) {
		number := `\d+`
		if slices.ContainsFunc(x.Values, func(s string) bool {
			return strings.ContainsAny(numbers.FindString(s), ".:,")
		}) {
			number = `[\d.:,]+`
		}
		return regexp.QuoteMeta(text[:at[0]]) + number + regexp.QuoteMeta(text[at[1]:])
	}
	switch {
	case slices.Contains(x.Values, ""):
		return `\S*`
	case all("0123456789"):
		return `\d+`
	case all("0123456789.:,"):
		return `[\d.:,]+`
	}
	if x.To < len(v.Text) && v.Text[x.To] != ' ' && v.Text[x.To] < 0x80 &&
		!slices.ContainsFunc(x.Values, func(s string) bool { return strings.Contains(s, v.Text[x.To:x.To+1]) }) {
		return `[^\s` + regexp.QuoteMeta(v.Text[x.To:x.To+1]) + `]+`
	}
	return `\S+`
}

// Say says of a slot what was seen there: anna, git, root and 3 more.
func (x *Slot) Say() string {
	const most = 4
	list := x.Values[:min(len(x.Values), most)]
	for i, s := range list {
		if r := []rune(s); len(r) > 24 {
			list = slices.Clone(list)
			list[i] = string(r[:24]) + "…"
		}
	}
	words := strings.Join(list, ", ")
	if n := len(x.Values) - len(list); n > 0 {
		words += fmt.Sprintf(" and %d more", n)
	}
	return words
}
