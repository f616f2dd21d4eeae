package layout

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

var (
	blockLine = regexp.MustCompile(`^(# )?([A-Za-z][\w@/-]*(?: [A-Z][\w-]+)?): `)
	blockPair = regexp.MustCompile(`([A-Za-z][\w@/-]*):(?: +|$)`)
	peerValue = regexp.MustCompile(`^[^\[\s]*\[[^\]]*\] @ `)
)

// mostKeys bounds how many fields are made of keys.
const mostKeys = 24

// blocks proposes entries that are blocks of lines of the form Key: value, perhaps behind a #
// as in a comment, which begin with one of the keys, and may end with lines of another form.
func (x *detection) blocks() {
	keys := make([]string, len(x.lines))
	var order []string
	keyed := 0
	for i, l := range x.lines {
		if m := blockLine.FindString(l); m != "" && entry.LevelWritten(strings.TrimSuffix(m, ": ")) == 0 {
			keys[i] = strings.TrimSuffix(m, " ")
			keyed++
			if len(order) < 3 && !slices.Contains(order, keys[i]) {
				order = append(order, keys[i])
			}
		}
	}
	if 3*keyed < len(x.lines) {
		return
	}
	for _, first := range order {
		at := slices.Index(keys, first)
		if begins, again := beginnings(keys[at:], first); begins > 2 && 10*again < begins {
			x.block(first)
			return
		}
	}
}

// beginnings counts how many blocks a key begins, and how many of them have some key twice.
func beginnings(keys []string, first string) (begins, again int) {
	seen := map[string]bool{}
	twice := false
	for _, k := range keys {
		switch {
		case k == first:
			if twice {
				again++
			}
			begins++
			seen, twice = map[string]bool{}, false
		case k != "":
			twice = twice || seen[k]
			seen[k] = true
		}
	}
	return begins, again
}

// block proposes blocks that begin with a key.
func (x *detection) block(first string) {
	starts := "^" + regexp.QuoteMeta(first) + " "
	entries := EntriesOf(x.lines, starts)
	if len(entries) > 0 && !strings.HasPrefix(entries[0], first) {
		entries = entries[1:] // what stands before the first one
	}
	clauses, timed := x.blockTime(entries)
	type key struct {
		prefix, name string
		values       []string
		last         bool // nothing stands behind it on its line
	}
	found := map[string]*key{}
	var order []string
	for _, e := range entries {
		for l := range strings.SplitSeq(e, "\n") {
			prefix := blockLine.FindStringSubmatch(l)
			if prefix == nil {
				continue
			}
			pairs := blockPair.FindAllStringSubmatchIndex(l, -1)
			for i, p := range pairs {
				name, end := l[p[2]:p[3]], len(l)
				if i+1 < len(pairs) {
					end = pairs[i+1][0]
				}
				if i > 0 && !strings.HasPrefix(l[p[0]-1:], " ") {
					continue
				}
				k := found[name]
				if k == nil {
					k = &key{prefix: prefix[1], name: name, last: true}
					found[name], order = k, append(order, name)
				}
				k.values = append(k.values, strings.TrimSpace(l[p[1]:end]))
				k.last = k.last && i+1 == len(pairs)
			}
		}
	}
	taken := map[string]bool{"at": true, "text": true}
	for _, name := range order {
		k := found[name]
		group := groupName(name)
		if 2*len(k.values) < len(entries) || taken[group] || len(clauses) > mostKeys || name == timed {
			continue
		}
		taken[group] = true
		value := `(?<` + group + `>\S+)`
		switch {
		case !slices.ContainsFunc(k.values, func(v string) bool { return !peerValue.MatchString(v) }):
			value = `(?<account>[^\[\s]*)\[[^\]]*\] @ (?<client>\S*)`
		case slices.ContainsFunc(k.values, func(v string) bool { return strings.ContainsRune(v, ' ') }) && k.last:
			value = `(?<` + group + `>\S.*)`
		}
		edge := "" // a pattern that begins with a text is found quickly
		if slices.ContainsFunc(order, func(o string) bool { return o != name && strings.HasSuffix(o, name) }) {
			edge = `\b`
		}
		clauses = append(clauses, "find in text "+written1(edge+regexp.QuoteMeta(name)+`: +`+value))
	}
	p := Proposal{What: "blocks that begin with " + strings.TrimSuffix(first, ":"), Clauses: clauses, Starts: starts}
	x.add(p, 1.1)
}

// blockTime finds where entries have their time: the clauses, and the key that it is the value
// of.
func (x *detection) blockTime(entries []string) (clauses []string, key string) {
	places := map[string]*timePlace{}
	var order []string
	for _, e := range entries {
		seen := map[string]bool{}
		for l := range strings.SplitSeq(e, "\n") {
			w, ok := FindTime(l)
			if !ok || w.Start > 40 || seen[l[:w.Start]] {
				continue
			}
			seen[l[:w.Start]] = true
			pl := places[l[:w.Start]]
			if pl == nil {
				pl = &timePlace{example: l[w.Start:w.End], f: w.Format}
				places[l[:w.Start]], order = pl, append(order, l[:w.Start])
			}
			pl.n++
		}
	}
	i := slices.IndexFunc(order, func(prefix string) bool { return 10*places[prefix].n >= 9*len(entries) })
	if i < 0 {
		return nil, ""
	}
	best := order[i] // the first that nearly all of them have
	pl := places[best]
	first := ""
	if _, err := TimeLike(pl.example, ""); err != nil {
		first = " day first"
		if _, err := TimeLike(pl.example, "day"); err != nil {
			first = " year first"
		}
	}
	if m := blockLine.FindStringSubmatch(best); m != nil {
		key = m[2]
	}
	return []string{"find in text " + written1(regexp.QuoteMeta(best)+`(?<at>`+
		timePattern(pl.f, 0)+`)`), "time at like " + lang.Quote(pl.example) + first}, key
}

// timePlace is where times stand in entries.
type timePlace struct {
	n       int // entries that have one there
	example string
	f       *TimeFormat
}

// groupName is a key as the name of a group.
func groupName(key string) string {
	return strings.Trim(strings.Map(func(r rune) rune {
		if r < 0x80 && isAlnum(byte(r)) {
			return r
		}
		return '_'
	}, strings.ToLower(key)), "_")
}

var pairOf = regexp.MustCompile(`(^|[;,] ?|: )([A-Za-z][\w.-]{0,30}): ?("(?:[^"\\]|\\.)*"|[^;,"\s][^;,"]{0,200})`)

// pairClauses finds pairs that many texts have, written key: "value"; key: value, or with
// commas between them, and gives the clauses that make fields of them, but for those that are
// taken.
func pairClauses(texts []string, taken map[string]bool) []string {
	type key struct {
		n, quoted int
		values    []string
		before    map[string]int // what stands in front of it
		marks     bool           // some values have escapes in them
	}
	found := map[string]*key{}
	var order []string
	with := 0
	for _, t := range texts {
		pairs := pairOf.FindAllStringSubmatch(t, -1)
		if len(pairs) < 3 {
			continue
		}
		with++
		seen := map[string]bool{}
		for _, p := range pairs {
			if seen[p[2]] || p[1] == ": " {
				continue
			}
			seen[p[2]] = true
			k := found[p[2]]
			if k == nil {
				k = &key{before: map[string]int{}}
				found[p[2]], order = k, append(order, p[2])
			}
			k.n++
			k.before[p[1]]++
			k.marks = k.marks || strings.Contains(p[3], `\`)
			v := p[3]
			if v[0] == '"' {
				k.quoted++
				v = strings.Trim(v, `"`)
			}
			k.values = append(k.values, strings.TrimSpace(v))
		}
	}
	if 5*with < len(texts) {
		return nil
	}
	var out, last []string
	for _, name := range order {
		k := found[name]
		group := groupName(name)
		if ours := wellKnown[bareName(name)]; ours != "" {
			group = ours
		}
		if 2*k.n < with || taken[group] || len(out) > mostKeys || !named(group) {
			continue
		}
		taken[group] = true
		value := `"?(?<` + group + `>[^";,]*)"?`
		if k.quoted == k.n {
			value = `"(?<` + group + `>[^"]*)"`
			if k.marks {
				value = `"(?<` + group + `>(?:[^"\\]|\\.)*)"`
			}
		}
		before := ""
		if len(k.before) == 1 { // a pattern that begins with a text is found quickly
			for b := range k.before {
				before = regexp.QuoteMeta(b)
			}
		}
		clause := "find in text " + written1(before+regexp.QuoteMeta(name)+`: ?`+value)
		if group == "text" {
			last = append(last, clause) // behind it there is nothing left to find
			continue
		}
		out = append(out, clause)
		if !taken["at"] && timeRank(name) >= 0 {
			if c := timeClause(group, k.values); c != "" {
				taken["at"] = true
				last = append(last, c)
			}
		}
	}
	return append(out, last...)
}

// pairs proposes lines that are nothing but pairs.
func (x *detection) pairs() {
	whole := x.share(func(l string) bool {
		n := 0
		for _, p := range pairOf.FindAllString(l, -1) {
			n += len(p)
		}
		return 10*n >= 8*len(l)
	})
	if whole < 0.8 {
		return
	}
	taken := map[string]bool{}
	if clauses := pairClauses(x.lines, taken); len(clauses) > 1 {
		x.add(Proposal{What: fmt.Sprintf("pairs of keys and values, %d of them", len(taken)), Clauses: clauses}, 1.2)
	}
}

// textsOf are the texts that a pattern leaves of some lines.
func textsOf(pattern string, entries []string) []string {
	p, err := regexp.Compile(pattern)
	if err != nil || p.SubexpIndex("text") < 0 {
		return nil
	}
	var out []string
	for _, e := range entries {
		if m := p.FindStringSubmatch(e); m != nil {
			out = append(out, m[p.SubexpIndex("text")])
		}
	}
	return out
}
