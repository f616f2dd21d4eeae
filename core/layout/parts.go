package layout

import (
	"net/netip"
	"regexp"
	"strings"

	"dimlantern/core/entry"
)

// timedLine is a line and where its time stands in it; -1 where it has none.
type timedLine struct {
	line       string
	start, end int
}

// headPart is a part of what stands in front of an entry's text: what it is, and how a
// pattern writes it.
type headPart struct {
	kind    string // parts of one kind are one in all lines
	pattern string
	end     int // where it ends in the line
}

// partReader reads the parts of heads, one after the other, as they are taken up into a
// pattern.
type partReader struct {
	taken map[string]bool // the fields that there are
	timed bool            // the time was read
	role  bool            // a process and its role were read, so that a mark is a level
	soft  bool            // words such as LOG and DETAIL are levels here
	wide  bool            // programs have somebody in parentheses behind their names
}

// partForm is a form that parts have: where its expression fits and the reader's state allows
// it, it is one. $level and such in what it gives are fields that no other part may have.
type partForm struct {
	kind    string
	re      *regexp.Regexp // of the part, from its first byte on; its first group is what is looked at
	pattern string         // what finds it
	gives   []string       // its fields: none of them may be taken
	when    func(r *partReader, word string) bool
}

func re(s string) *regexp.Regexp { return regexp.MustCompile(`^(?:` + s + `)`) }

// softLevels are words that are levels where others beside them are.
var softLevels = regexp.MustCompile(`^(?:LOG|DETAIL|HINT|STATEMENT|CONTEXT|QUERY|LOCATION|DEBUG[1-5])$`)

func beforeTime(r *partReader, _ string) bool { return !r.timed }
func behindTime(r *partReader, _ string) bool { return r.timed }
func isLevel(r *partReader, word string) bool {
	return len(word) > 2 && entry.Level(word) > 0 || entry.LevelWritten(word) == 3 && len(word) == 4 ||
		strings.EqualFold(word, "severe") || word == "FINE" || word == "CONFIG" ||
		r.soft && softLevels.MatchString(word)
}

// partForms are the forms of parts, those that say more before those that say less.
var partForms = []partForm{
	{kind: "role", re: re(`(\d+):[A-Z] `), pattern: `(?<pid>\d+):(?<role>[A-Z])`, gives: []string{"pid", "role"},
		when: beforeTime},
	{kind: "mark", re: re(`([.*#-])(?: |$)`), pattern: `(?<level>[.*#-])`, gives: []string{"level"},
		when: func(r *partReader, _ string) bool { return r.role && r.timed }},
	{kind: "LEVEL:", re: re(`([A-Z]{3,9}\d?): `), pattern: `(?<level>[A-Z]+\d?):`, gives: []string{"level"},
		when: func(r *partReader, w string) bool { return r.soft && isLevel(r, w) }},
	{kind: "[program:level]", re: re(`\[[\w-]*:([a-z]{3,9})\d?\]`), pattern: `\[(?<program>[\w-]*):(?<level>\w+)\]`,
		gives: []string{"program", "level"}, when: func(_ *partReader, w string) bool {
			return entry.LevelWritten(w) > 0 && len(w) > 1
		}},
	{kind: "[pid:tid]", re: re(`\[pid (\d+)(?::tid \d+)?\]`), pattern: `\[pid (?<pid>\d+)(?::tid (?<thread>\d+))?\]`,
		gives: []string{"pid", "thread"}},
	{kind: "[client]", re: re(`\[client ([^\]\[]{1,60}|\[[^\]]{1,50}\]:?\d*)\]`),
		pattern: `\[client (?<client>[^\]: ]+|[^\] ]+)(?::\d+)?\]`, gives: []string{"client"}},
	{kind: "pid#", re: re(`(\d+)#\d+:`), pattern: `(?<pid>\d+)#(?<thread>\d+):`, gives: []string{"pid", "thread"},
		when: behindTime},
	{kind: "*", re: re(`\*(\d+) `), pattern: `\*(?<connection>\d+)`, gives: []string{"connection"}, when: behindTime},
	{kind: "account@", re: re(`([^\s@:\[\]]+|\[unknown\])@(?:[^\s@:\[\]]+|\[unknown\]) `),
		pattern: `(?<account>[^\s@]+)@(?<database>\S+)`, gives: []string{"account", "database"},
		when: func(r *partReader, _ string) bool { return r.timed && r.taken["pid"] }},
	{kind: "verbosity", re: re(`, +(\d{1,2})[\],]`), pattern: `, +(?<verbosity>\d+)[^\]]*\]`,
		gives: []string{"verbosity"}, when: behindTime},
	{kind: "place", re: re(`([\w./-]+:\d+\([^\s()]+\))`), pattern: `(?<place>[\w./-]+:\d+\([^\s()]+\))`,
		gives: []string{"place"}, when: behindTime},
	{kind: "program|", re: re(`([A-Za-z][\w.-]*)\|`), pattern: `(?<program>[\w.-]+)\|`, gives: []string{"program"},
		when: behindTime},
	{kind: "program:", re: re(`([A-Za-z_][\w./-]*)(?:\([^()\s]*\))?(?:<[^<>\s]*>)*:(?: |$)`),
		pattern: `(?<program>[\w./-]+)(?:\((?:\d+|(?<account>[^()]*))\))?(?:<[^<>]*>)*:`,
		gives:   []string{"program", "account"},
		when:    func(r *partReader, w string) bool { return r.timed && r.wide && !isLevel(r, w) }},
	{kind: "program [pid]", re: re(`([A-Za-z_][\w./-]*) +\[\d+\]:? `), pattern: `(?<program>[\w./-]+) +\[(?<pid>\d+)\]`,
		gives: []string{"program", "pid"}, when: behindTime},
	{kind: "thread [level]", re: re(`(\d+) \[`), pattern: `(?<thread>\d+)`, gives: []string{"thread"},
		when: func(r *partReader, _ string) bool { return r.timed && !r.taken["level"] && !r.taken["host"] }},
	{kind: "program@", re: re(`([A-Za-z][\w./-]*):? `), pattern: `(?<program>[\w./-]+)`, gives: []string{"program"},
		when: func(r *partReader, w string) bool { return !r.timed && !isLevel(r, w) && hostLikeOrWord(w) }},
}

// hostLikeOrWord tells whether a word can be a program's name.
func hostLikeOrWord(w string) bool { return len(w) > 1 && len(w) < 40 && isAlnum(w[len(w)-1]) }

var (
	partLevel   = regexp.MustCompile(`^([\[<(]?)\s?([A-Za-z]{3,11})\s?([\]>)]?:?)(?:[ \t\-|:]|$)`)
	partTag     = regexp.MustCompile(`^[A-Za-z_][\w./-]*\[\d+\]:?`)
	partProgram = regexp.MustCompile(`^[A-Za-z_][\w./-]*:(?: |$)`)
	partBracket = regexp.MustCompile(`^\[([^\[\]]{1,60})\]`)
	partParen   = regexp.MustCompile(`^\(([^()]{1,60})\)`)
	partHost    = regexp.MustCompile(`^[A-Za-z][\w.-]*(?: |$)`)
	partAddress = regexp.MustCompile(`^[0-9a-fA-F:.]{7,39}(?:[ \t,]|$)`)
	partPri     = regexp.MustCompile(`^<\d{1,3}>`)
	partNumber  = regexp.MustCompile(`^\d+(?: |$)`)
	partLogger  = regexp.MustCompile(`^[A-Za-z_][\w$]*(?:\.[\w$]+)+(?: |:|$)`)
)

// read reads the part of a head that begins at a place; false where the rest is nothing
// but text.
func (r *partReader) read(l timedLine, i int) (headPart, bool) {
	rest := l.line[i:]
	if rest == "" {
		return headPart{}, false
	}
	if i == l.start {
		return headPart{"time", "", l.end}, true
	}
	if l.start > i { // nothing behind the time's start is read here
		rest = l.line[i:l.start]
	}
	for _, f := range partForms {
		m := f.re.FindStringSubmatchIndex(rest)
		if m == nil || f.when != nil && !f.when(r, rest[m[2]:m[3]]) || r.any(f.gives) {
			continue
		}
		end := m[1]
		for end > 0 && rest[end-1] == ' ' {
			end--
		}
		switch f.kind {
		case "program [pid]":
			if rest[end-1] == ':' {
				return headPart{f.kind + ":", f.pattern + ":", i + end}, true
			}
		case "thread [level]":
			end -= 2
			b := partBracket.FindStringSubmatch(rest[m[3]+1:])
			if b == nil || !isLevel(r, b[1]) {
				continue
			}
		case "program@": // right in front of the time
			if end = m[3]; strings.Trim(rest[end:], " :[(") != "" {
				continue
			}
		case "verbosity":
			if end = strings.IndexByte(rest, ']') + 1; end == 0 {
				continue
			}
		}
		return headPart{f.kind, f.pattern, i + end}, true
	}
	marks := []string{" - ", " -- ", " | ", " : ", ": ", ", "}
	if r.role { // those are levels
		marks = nil
	}
	for _, mark := range marks {
		if strings.HasPrefix(rest, mark) {
			return headPart{mark, regexp.QuoteMeta(mark), i + len(mark)}, true
		}
	}
	switch c := rest[0]; {
	case c == ' ':
		n := len(rest) - len(strings.TrimLeft(rest, " "))
		return headPart{"space", " +", i + n}, true
	case c == '\t' || c == '|' || c == ';' || c == ',' || c == '*' || c == '#' || c == ':':
		return headPart{string(c), strings.Replace(regexp.QuoteMeta(string(c)), "\t", `\t`, 1), i + 1}, true
	}
	if p, ok := r.level(rest, i); ok {
		return p, true
	}
	if p, ok := r.process(l, rest, i); ok {
		return p, true
	}
	if p, ok := r.peer(rest, i); ok {
		return p, true
	}
	if c := rest[0]; l.start > i && (c == '[' || c == '(' || c == '"' || c == '<' || c == '{') {
		return headPart{string(c), regexp.QuoteMeta(string(c)), i + 1}, true
	}
	if c := rest[0]; i == l.end && (c == ']' || c == ')' || c == '"' || c == '>' || c == '}') {
		mark := rest[:1]
		if strings.HasPrefix(rest, "]:") {
			mark = "]:"
		}
		return headPart{mark, regexp.QuoteMeta(mark), i + len(mark)}, true
	}
	return headPart{}, false
}

// any tells whether one of some fields is taken.
func (r *partReader) any(fields []string) bool {
	for _, f := range fields {
		if r.taken[f] {
			return true
		}
	}
	return false
}

// level reads a word that says how bad it is, bare or between brackets.
func (r *partReader) level(rest string, i int) (headPart, bool) {
	m := partLevel.FindStringSubmatch(rest)
	if m == nil || !isLevel(r, m[2]) || r.taken["level"] {
		return headPart{}, false
	}
	n := strings.Index(rest, m[2]) + len(m[2])
	open := regexp.QuoteMeta(m[1])
	if m[1] != "" {
		open += ` ?`
	}
	shut := ""
	if m[3] != "" {
		shut = regexp.QuoteMeta(m[3])
		if n < len(rest) && rest[n] == ' ' || m[1] != "" {
			shut = ` ?` + shut
		}
		n = strings.Index(rest[n:], m[3]) + n + len(m[3])
	}
	return headPart{"level" + m[1] + m[3], open + `(?<level>\w+)` + shut, i + n}, true
}

// process reads who wrote the entry: a program, a process, a thread.
func (r *partReader) process(l timedLine, rest string, i int) (headPart, bool) {
	taken := r.taken
	if m := partTag.FindString(rest); m != "" && !taken["program"] {
		pid := `\[(?<pid>\d+)\]`
		if taken["pid"] {
			pid = `\[\d+\]`
		}
		if strings.HasSuffix(m, ":") {
			return headPart{"tag:", `(?<program>[\w./-]+)` + pid + `:`, i + len(m)}, true
		}
		return headPart{"tag", `(?<program>[\w./-]+)` + pid, i + len(m)}, true
	}
	if m := partBracket.FindStringSubmatch(rest); m != nil {
		name, inner := "thread", `[^\]]+`
		switch {
		case strings.Trim(m[1], "0123456789") == "" && !taken["pid"]:
			name, inner = "pid", `\d+`
		case addressLike(m[1]) && !taken["client"]:
			name = "client"
		case taken["thread"]:
			name = "program"
		}
		if l.start > i && l.start < i+len(m[0]) {
			return headPart{"[", `\[`, i + 1}, true
		}
		if taken[name] {
			return headPart{"[]", `\[[^\]]*\]`, i + len(m[0])}, true
		}
		kind := "[" + name
		if name == "program" {
			kind = "[thread"
		}
		return headPart{kind, `\[(?<` + name + `>` + inner + `)\]`, i + len(m[0])}, true
	}
	if m := partParen.FindStringSubmatch(rest); m != nil && r.timed && !taken["thread"] {
		return headPart{"(", `\((?<thread>[^)]+)\)`, i + len(m[0])}, true
	}
	if m := partPri.FindString(rest); m != "" && i == 0 {
		return headPart{"pri", `<\d+>`, i + len(m)}, true
	}
	if m := partProgram.FindString(rest); m != "" && r.timed && !taken["program"] {
		return headPart{"program:", `(?<program>[\w./-]+):`, i + strings.IndexByte(m, ':') + 1}, true
	}
	if m := partLogger.FindString(rest); m != "" && r.timed && !taken["program"] &&
		!addressLike(strings.TrimRight(m, " :")) && (taken["level"] || taken["host"]) {
		return headPart{"logger", `(?<program>[\w.$]+)`, i + len(strings.TrimRight(m, " :"))}, true
	}
	if m := partNumber.FindString(rest); m != "" && r.timed && !taken["pid"] && taken["level"] {
		return headPart{"number", `(?<pid>\d+)`, i + len(strings.TrimRight(m, " "))}, true
	}
	return headPart{}, false
}

// peer reads a machine: an address or a name.
func (r *partReader) peer(rest string, i int) (headPart, bool) {
	if m := partAddress.FindString(rest); m != "" && addressLike(strings.TrimRight(m, " \t,")) && !r.taken["client"] {
		return headPart{"address", `(?<client>[0-9a-fA-F:.]+)`, i + len(strings.TrimRight(m, " \t,"))}, true
	}
	if m := partHost.FindString(rest); m != "" && r.timed && !r.taken["host"] && !r.taken["program"] {
		return headPart{"host", `(?<host>[\w.-]+)`, i + len(strings.TrimRight(m, " "))}, true
	}
	return headPart{}, false
}

func addressLike(s string) bool {
	a, err := netip.ParseAddr(s)
	return err == nil && (a.Is4() || strings.Count(s, ":") > 1)
}
