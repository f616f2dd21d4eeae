package layout

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// patterns proposes a pattern that is built of the lines themselves: where the time is
// and how it is written, then what stands around it, then the rest.
func (x *detection) patterns() {
	x.syslog()
	type spot struct {
		line int
		w    Written
	}
	bySig := map[string][]spot{}
	for i, l := range x.lines {
		w, ok := FindTime(l)
		if ok {
			sig := w.Format.signature()
			bySig[sig] = append(bySig[sig], spot{i, w})
		}
	}
	best := ""
	for sig, list := range bySig {
		if len(list) > len(bySig[best]) || len(list) == len(bySig[best]) && sig < best {
			best = sig
		}
	}
	list := bySig[best]
	if 10*len(list) < len(x.lines) {
		x.untimed()
		return
	}
	// An example that can be read in one way only is the best one.
	example, order, note := "", "", ""
	var times []string
	for _, s := range list {
		t := x.lines[s.line][s.w.Start:s.w.End]
		times = append(times, t)
		if !s.w.Open || example == "" {
			example = t
		}
	}
	if _, err := TimeLike(example, ""); err != nil {
		var sure bool
		if order, sure = orderOf(times); !sure {
			note = "day and month cannot be told apart by this sample: look at the time clause"
		}
	}
	like := "time at like " + lang.Quote(example)
	if order != "" {
		like += " " + order + " first"
	}
	f, err := TimeLike(example, order)
	if err != nil {
		return
	}
	heads := make([]head2, 0, len(list))
	for _, s := range list {
		heads = append(heads, head2{x.lines[s.line], s.w.Start, s.w.End})
	}
	p := Proposal{What: "a pattern", Clauses: []string{"", like}}
	if note != "" {
		p.Notes = append(p.Notes, note)
	}
	pattern := patternOf(heads, f)
	p.Clauses[0] = "pattern " + (&lang.Pattern{Source: pattern}).String()
	if strings.Contains(pattern, "(?<pid>") {
		p.Clauses = append(p.Clauses, "type pid integer")
	}
	if 100*len(list) < 98*len(x.lines) && x.belong() { // lines without a time belong to those before them
		q := p
		q.Clauses = slices.Clone(p.Clauses)
		q.What = "a pattern, of entries of several lines"
		q.Starts = startOf(pattern)
		x.add(q, 1.02)
	}
	x.add(p, 1)
}

// belong tells whether most lines without a time look as if they went on with the
// entry before them.
func (x *detection) belong() bool {
	n, on := 0, 0
	for _, l := range x.lines {
		if w, ok := FindTime(l); ok && w.Start < 40 {
			continue
		}
		n++
		t := strings.TrimSpace(l)
		if l != t && l[0] <= ' ' || strings.HasPrefix(t, "at ") || strings.HasPrefix(t, "Caused by") ||
			strings.HasPrefix(t, "...") || strings.HasPrefix(t, "}") || strings.HasPrefix(t, "Traceback") ||
			strings.HasPrefix(t, "|") || strings.HasPrefix(t, "--") || strings.Contains(t, "Error:") ||
			strings.Contains(t, "Exception") {
			on++
		}
	}
	return n > 0 && 10*on >= 6*n
}

// startOf is the pattern up to the end of its time, without groups.
func startOf(pattern string) string {
	open := strings.Index(pattern, "(?<at>")
	depth, i := 1, open+len("(?<at>")
	for ; i < len(pattern) && depth > 0; i++ {
		switch pattern[i] {
		case '\\':
			i++
		case '[':
			for i++; i < len(pattern) && pattern[i] != ']'; i++ {
				if pattern[i] == '\\' {
					i++
				}
			}
		case '(':
			depth++
		case ')':
			depth--
		}
	}
	return regexp.MustCompile(`\(\?<\w+>`).ReplaceAllString(pattern[:i], "(?:")
}

// syslog proposes the open format where lines have a priority, or the time, the host
// and the program of RFC 3164.
func (x *detection) syslog() {
	pri := x.share(func(l string) bool { n, _ := priority([]byte(l)); return n >= 0 })
	d := &Divider{Layout: &Layout{format: (*Divider).syslog}}
	whole := x.share(func(l string) bool {
		if _, rest := priority([]byte(l)); len(rest) == 0 || rest[0]-'0' <= 9 && pri < 0.5 {
			return false
		}
		f := fields(d.syslog([]byte(l), x.near).Fields)
		return f.get("host") != "" && f.get("program") != ""
	})
	if pri > 0.5 || whole > 0.8 {
		x.add(Proposal{What: "syslog", Name: "syslog"}, 1.3)
	}
}

// untimed proposes what can be said of lines without a time.
func (x *detection) untimed() {
	var heads []head2
	for _, l := range x.lines {
		heads = append(heads, head2{l, -1, -1})
	}
	pattern := patternOf(heads, nil)
	if strings.Count(pattern, "(?<") > 1 {
		x.add(Proposal{What: "a pattern", Clauses: []string{"pattern " + (&lang.Pattern{Source: pattern}).String()},
			Notes: []string{"no time was found: entries have that of their arrival"}}, 0.9)
	}
}

// head2 is a line and where its time stands in it; -1 where it has none.
type head2 struct {
	line       string
	start, end int
}

// element of a head: what it is, and how a pattern writes it.
type headPart struct {
	kind    string // parts of one kind stand in all lines
	pattern string
	end     int // where it ends in the line
}

// maxHead bounds how many parts a head has.
const maxHead = 14

// patternOf builds a pattern for lines: their time, and the parts in front of it and
// behind that most of them have.
func patternOf(lines []head2, f *TimeFormat) string {
	pattern := "^"
	taken := map[string]bool{}
	at := make([]int, len(lines))
	done := f == nil
	for range maxHead {
		type group struct {
			part headPart
			who  []int
		}
		groups := map[string]*group{}
		var order []string
		for i, l := range lines {
			if at[i] < 0 {
				continue
			}
			p, ok := readPart(l, at[i], taken, done)
			if !ok {
				continue
			}
			g := groups[p.kind]
			if g == nil {
				g = &group{part: p}
				groups[p.kind] = g
				order = append(order, p.kind)
			}
			g.who = append(g.who, i)
		}
		var best *group
		for _, k := range order {
			if best == nil || len(groups[k].who) > len(best.who) {
				best = groups[k]
			}
		}
		if best == nil || 100*len(best.who) < 90*len(lines) || best.part.kind == "host" &&
			!hosts(lines, at, best.who) {
			break
		}
		in := map[int]bool{}
		for _, i := range best.who {
			in[i] = true
			p, _ := readPart(lines[i], at[i], taken, done)
			at[i] = p.end
		}
		for i := range at {
			if !in[i] {
				at[i] = -1
			}
		}
		if best.part.kind == "time" {
			done = true
			pattern += "(?<at>" + timePattern(f, nextByte(lines)) + ")"
			continue
		}
		if best.part.kind == "space" { // several blanks, where some lines have several
			one := true
			for _, i := range best.who {
				one = one && (at[i] < 2 || lines[i].line[at[i]-2] != ' ')
			}
			if one {
				pattern += " "
				continue
			}
		}
		pattern += best.part.pattern
		for _, n := range regexp.MustCompile(`\(\?<(\w+)>`).FindAllStringSubmatch(best.part.pattern, -1) {
			taken[n[1]] = true
		}
	}
	if !done { // the time stands further behind
		pattern += ".*?(?<at>" + timePattern(f, nextByte(lines)) + ")"
	}
	if !strings.HasSuffix(pattern, " ") && done && strings.HasSuffix(pattern, ")") {
		return pattern + "\\s*(?<text>.*)$"
	}
	return pattern + "(?<text>.*)$"
}

// nextByte is what stands behind the time in most lines; 0 where the line ends.
func nextByte(lines []head2) byte {
	var counts [256]int
	for _, l := range lines {
		if l.end < len(l.line) {
			counts[l.line[l.end]]++
		} else {
			counts[0]++
		}
	}
	best := 0
	for c, n := range counts {
		if n > counts[best] {
			best = c
		}
	}
	return byte(best)
}

// hosts tells whether the words that some lines have at their places can be the names
// of hosts: few, and such as hosts have.
func hosts(lines []head2, at []int, who []int) bool {
	different := map[string]int{}
	like := 0
	for _, i := range who {
		w := wordAt(lines[i].line, at[i])
		different[w]++
		if hostLike(w) {
			like++
		}
	}
	return 10*like >= 9*len(who) && (len(different) <= 3 || 2*len(different) <= len(who) || len(who) < 8)
}

func wordAt(s string, i int) string {
	end := strings.IndexByte(s[i:], ' ')
	if end < 0 {
		return s[i:]
	}
	return s[i : i+end]
}

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

// readPart reads the part of a head that begins at a place; false where the rest is
// nothing but text.
func readPart(l head2, i int, taken map[string]bool, timed bool) (headPart, bool) {
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
	for _, mark := range []string{" - ", " -- ", " | ", " : ", ": ", ", "} {
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
	if m := partLevel.FindStringSubmatch(rest); m != nil && entry.Level(m[2]) > 0 && !taken["level"] {
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
	if m := partParen.FindStringSubmatch(rest); m != nil && timed && !taken["thread"] {
		return headPart{"(", `\((?<thread>[^)]+)\)`, i + len(m[0])}, true
	}
	if m := partAddress.FindString(rest); m != "" && addressLike(strings.TrimRight(m, " \t,")) && !taken["client"] {
		return headPart{"address", `(?<client>[0-9a-fA-F:.]+)`, i + len(strings.TrimRight(m, " \t,"))}, true
	}
	if m := partPri.FindString(rest); m != "" && i == 0 {
		return headPart{"pri", `<\d+>`, i + len(m)}, true
	}
	if m := partProgram.FindString(rest); m != "" && timed && !taken["program"] {
		return headPart{"program:", `(?<program>[\w./-]+):`, i + strings.IndexByte(m, ':') + 1}, true
	}
	if m := partLogger.FindString(rest); m != "" && timed && !taken["program"] &&
		!addressLike(strings.TrimRight(m, " :")) && (taken["level"] || taken["host"]) {
		return headPart{"logger", `(?<program>[\w.$]+)`, i + len(strings.TrimRight(m, " :"))}, true
	}
	if m := partNumber.FindString(rest); m != "" && timed && !taken["pid"] && taken["level"] {
		return headPart{"number", `(?<pid>\d+)`, i + len(strings.TrimRight(m, " "))}, true
	}
	if m := partHost.FindString(rest); m != "" && timed && !taken["host"] && !taken["program"] {
		return headPart{"host", `(?<host>[\w.-]+)`, i + len(strings.TrimRight(m, " "))}, true
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

func addressLike(s string) bool {
	a, err := netip.ParseAddr(s)
	return err == nil && (a.Is4() || strings.Count(s, ":") > 1)
}

// timePattern is a pattern for the times of a format; next is what stands behind them.
// It is made so that it can be matched byte by byte: see steps.
func timePattern(f *TimeFormat, next byte) string {
	var b strings.Builder
	seconds := func() {
		zone := slices.ContainsFunc(f.elems, func(e element) bool { return e.part == partZone })
		last := f.elems[len(f.elems)-1].part
		switch {
		case zone && last == partZone && f.elems[len(f.elems)-2].part != partMark && next != ':':
			b.WriteString(`[\w.,:+-]*`) // decimals and the zone
		case next == ',' || next == '.':
			b.WriteString(`(?:[.,]\d+)?`)
		default:
			b.WriteString(`[\d.,]*`)
		}
	}
	for i, e := range f.elems {
		switch e.part {
		case partMark:
			if e.mark == ' ' {
				b.WriteString(` +`)
			} else {
				b.WriteString(regexp.QuoteMeta(string(e.mark)))
			}
		case partYear:
			b.WriteString(`\d{4}`)
		case partYear2, partMinute:
			b.WriteString(`\d\d`)
		case partMonth, partDay, partHour:
			b.WriteString(`\d{1,2}`)
		case partSecond:
			b.WriteString(`\d\d`)
			seconds()
		case partCompactClock:
			b.WriteString(`\d{6}`)
			seconds()
		case partName, partWeekday:
			b.WriteString(`[A-Za-z]+`)
		case partHalf:
			b.WriteString(`[AaPp]\.?[Mm]\.?`)
		case partZone:
			switch before := f.elems[i-1].part; {
			case before == partMark:
				b.WriteString(`[\w:+/-]+`)
			case next == ':' || i+1 < len(f.elems):
				b.WriteString(`(?:[+-]\d\d:?\d*|[A-Za-z_/]+)`)
			case before != partSecond && before != partCompactClock:
				b.WriteString(`[\w:+-]+`)
			}
		case partYearDay:
			b.WriteString(`\d{3}`)
		case partCompact:
			b.WriteString(`\d{8}`)
		case partCompact2:
			b.WriteString(`\d{6}`)
		default:
			b.WriteString(`\d+`)
			if next != ',' && next != '.' {
				b.WriteString(`[\d.]*`)
			}
		}
	}
	return strings.NewReplacer(`\d{4}-\d{1,2}-\d{1,2}`, `\d{4}-\d\d-\d\d`, `\d+[\d.]*`, `[\d.]+`).Replace(b.String())
}

// Describe puts a proposal's figure into words.
func (p *Proposal) Describe() string {
	unit := "lines"
	if p.Starts != "" {
		unit = "entries"
	}
	s := fmt.Sprintf("%s: %d of %d %s fit", p.What, p.Fits, p.Of, unit)
	if p.Name != "plain" {
		s += fmt.Sprintf(", %d have a time", p.Timed)
	}
	return s
}
