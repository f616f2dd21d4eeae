package layout

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// patterns proposes a pattern that is built of the lines themselves: where the time is
// and how it is written, then what stands around it, then the rest.
func (x *detection) patterns() {
	x.syslog()
	list := x.times()
	if 10*len(list) < len(x.lines) {
		x.untimed()
		return
	}
	like, f, note := x.likeOf(list)
	if f == nil {
		return
	}
	heads := make([]timedLine, 0, len(list))
	for _, s := range list {
		heads = append(heads, timedLine{x.lines[s.line], s.w.Start, s.w.End})
	}
	h := patternOf(heads, f)
	p := Proposal{What: "a pattern"}
	for _, one := range h.each() {
		p.Clauses = append(p.Clauses, "pattern "+written1(one))
	}
	p.Clauses = append(p.Clauses, like)
	if note != "" {
		p.Notes = append(p.Notes, note)
	}
	if strings.Contains(h.pattern, "(?<pid>") {
		p.Clauses = append(p.Clauses, "type pid integer")
	}
	taken := map[string]bool{"text": true}
	for _, n := range groupNames.FindAllStringSubmatch(h.pattern, -1) {
		taken[n[1]] = true
	}
	p.Clauses = append(p.Clauses, pairClauses(textsOf(h.pattern, x.lines), taken)...)
	weight := 1.0
	if h.gaveUp {
		weight = 0.6
	}
	if 100*len(list) < 98*len(x.lines) {
		x.several(p, h, list, weight)
	}
	x.add(p, weight)
}

// several proposes entries of several lines, where lines without a time belong to those
// before them.
func (x *detection) several(p Proposal, h headPattern, list []spot, weight float64) {
	more := x.continued(list)
	if more == nil {
		return
	}
	p.Clauses = slices.Clone(p.Clauses)
	p.What = "a pattern, of entries of several lines"
	p.Starts = more.starts(startOf(h.pattern))
	begin := strings.TrimSuffix(strings.TrimSuffix(h.pattern, "(?<text>.*)$"), `\s*`)
	switch {
	case more.levels: // the level stands on the second line
		begin = strings.Replace(begin, "(?<host>", "(?<program>", 1)
		second := begin + `(?<place>.*)\n(?<level>[A-Z]+): (?<text>[\s\S]*)$`
		p.Clauses = slices.Insert(p.Clauses, 0, "pattern "+written1(second))
	case more.bare && strings.HasSuffix(h.pattern, "(?<text>.*)$"): // the text stands on the second line
		second := strings.TrimSuffix(begin, " +") + ` *\n\s*(?<text>[\s\S]*)$`
		p.Clauses = slices.Insert(p.Clauses, 0, "pattern "+written1(second))
	}
	x.add(p, 1.02*weight)
}

// written1 is a pattern as settings have it.
func written1(pattern string) string { return (&lang.Pattern{Source: pattern}).String() }

// spot is a line with a time.
type spot struct {
	line int
	w    Written
}

// times finds the times of the lines that are written in the form which most of them
// have.
func (x *detection) times() []spot {
	bySig := map[string][]spot{}
	for i, l := range x.lines {
		if w, ok := FindTime(l); ok {
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
	return bySig[best]
}

// likeOf is the time clause for the times of some lines, and their format; nil where
// there is none. An example that can be read in one way only is the best one.
func (x *detection) likeOf(list []spot) (clause string, f *TimeFormat, note string) {
	example, order := "", ""
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
	clause = "time at like " + lang.Quote(example)
	if order != "" {
		clause += " " + order + " first"
	}
	f, err := TimeLike(example, order)
	if err != nil {
		return "", nil, ""
	}
	return clause, f, note
}

// continuation is what is known of lines that go on with the entry before them.
type continuation struct {
	indented bool     // all of them begin with a blank or a tab
	levels   bool     // they begin with a level, right behind a line with a time
	bare     bool     // the lines with a time have nothing behind their heads
	banners  []string // what other lines without a time begin with, which are entries of their own
}

var (
	goesOn = regexp.MustCompile(`^(?:[ \t]|$|at |Caused by|\.\.\.|[})\]]|Traceback|\|)|Error:|Exception`)
	second = regexp.MustCompile(`^(?:[A-Z]{4,8}): `)
	banner = regexp.MustCompile(`^[^\w\s]{3,}|^[A-Za-z][\w ./-]{1,20}?[:,(]|^[A-Za-z][\w./-]+`)
)

// continued looks at the lines without a time; nil where they do not go on with the
// entries before them.
func (x *detection) continued(list []spot) *continuation {
	timed := map[int]bool{}
	for _, s := range list {
		if s.w.Start < 40 {
			timed[s.line] = true
		}
	}
	c := &continuation{indented: true}
	n, on, levels, bare := 0, 0, 0, 0
	starts := map[string]int{}
	for i, l := range x.lines {
		if timed[i] {
			if i+1 < len(x.lines) && !timed[i+1] && placeOnly(l) {
				bare++
			}
			continue
		}
		n++
		switch {
		case i > 0 && timed[i-1] && second.MatchString(l) && entry.LevelWritten(l[:strings.IndexByte(l, ':')]) > 0:
			levels++
			on++
		case goesOn.MatchString(l):
			on++
			c.indented = c.indented && (l == "" || l[0] == ' ' || l[0] == '\t')
		default:
			starts[banner.FindString(l)]++
		}
	}
	c.levels = 10*levels >= 8*len(timed)
	c.bare = 10*bare >= 8*len(timed)
	if n == 0 || 10*on < 6*n && !(on > 0 && len(starts) <= 4 && starts[""] == 0) {
		return nil
	}
	for s, k := range starts {
		if s != "" && len(c.banners) < 6 && (k > 1 || n < 20) {
			c.banners = append(c.banners, s)
		}
	}
	slices.Sort(c.banners)
	return c
}

// placeOnly tells whether a line ends with the place in a program that it is of.
func placeOnly(l string) bool { return strings.HasSuffix(strings.TrimRight(l, " "), ")") }

// starts is the pattern with which entries begin.
func (c *continuation) starts(time string) string {
	if len(c.banners) == 0 {
		return time
	}
	if c.indented && !c.levels {
		return `^\S`
	}
	out := time
	for _, b := range c.banners {
		out += "|^" + regexp.QuoteMeta(b)
	}
	return out
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
	var heads []timedLine
	for _, l := range x.lines {
		heads = append(heads, timedLine{l, -1, -1})
	}
	h := patternOf(heads, nil)
	if strings.Count(h.pattern, "(?<") > 1 {
		x.add(Proposal{What: "a pattern", Clauses: []string{"pattern " + written1(h.pattern)},
			Notes: []string{"no time was found: entries have that of their arrival"}}, 0.9)
	}
}

// maxHead bounds how many parts a head has.
const maxHead = 18

// headPattern is a pattern that was built of lines.
type headPattern struct {
	pattern string
	gaveUp  bool     // what stands in front of the time could not be told
	lacking []string // the parts of it that some lines lack
}

// each is the pattern as those without anything that may be lacking: they are matched many
// times as fast. Where that is not possible it is the pattern itself.
func (h *headPattern) each() []string {
	if len(h.lacking) != 1 || strings.Contains(h.lacking[0], "|") {
		return []string{h.pattern}
	}
	there := strings.TrimSuffix(strings.TrimPrefix(h.lacking[0], "(?:"), ")?")
	return []string{strings.Replace(h.pattern, h.lacking[0], there, 1), strings.Replace(h.pattern, h.lacking[0], "", 1)}
}

// building is a pattern while it is built.
type building struct {
	r       partReader
	lines   []timedLine
	at      []int // where each line goes on; -1 where it no longer fits
	pattern string
	lacking []string // what of the pattern may be lacking
}

// next groups the lines by the part that they have next, those with the most lines first.
// Lines that have none are in no group.
func (b *building) next() []*partGroup {
	groups := map[string]*partGroup{}
	var out []*partGroup
	for i, l := range b.lines {
		if b.at[i] < 0 {
			continue
		}
		p, ok := b.r.read(l, b.at[i])
		if !ok {
			continue
		}
		g := groups[p.kind]
		if g == nil {
			g = &partGroup{part: p, ends: map[int]int{}}
			groups[p.kind] = g
			out = append(out, g)
		}
		g.ends[i] = p.end
	}
	slices.SortStableFunc(out, func(a, b *partGroup) int { return len(b.ends) - len(a.ends) })
	return out
}

type partGroup struct {
	part headPart
	ends map[int]int // where the part ends, by line
}

var groupNames = regexp.MustCompile(`\(\?<(\w+)>`)

// take goes on behind a part; lines that lack it fall out.
func (b *building) take(g *partGroup, f *TimeFormat) {
	for i := range b.at {
		if end, ok := g.ends[i]; ok {
			b.at[i] = end
		} else {
			b.at[i] = -1
		}
	}
	if g.part.kind == "time" {
		b.r.timed = true
		b.pattern += "(?<at>" + timePattern(f, nextByte(b.lines)) + ")"
		return
	}
	if g.part.kind == "space" { // several blanks, where some lines have several
		one := true
		for i, end := range g.ends {
			one = one && (end < 2 || b.lines[i].line[end-2] != ' ')
		}
		if one {
			b.pattern += " "
			return
		}
	}
	b.name(g.part)
	b.pattern += g.part.pattern
}

// name notes the fields that a part gives.
func (b *building) name(p headPart) {
	for _, n := range groupNames.FindAllStringSubmatch(p.pattern, -1) {
		b.r.taken[n[1]] = true
	}
	b.r.role = b.r.role || p.kind == "role"
}

// optional takes a part that only some lines have, where behind it they go on as the others
// do; false where there is none.
func (b *building) optional(groups []*partGroup, least int) bool {
	for _, g := range groups {
		kind := g.part.kind
		if len(g.ends) < least || !b.r.timed || !mayLack(kind) {
			continue
		}
		form := g.part.pattern
		if strings.HasPrefix(kind, "level") || kind == "LEVEL:" {
			if form = b.levelForm(g); form == "" {
				continue
			}
		}
		blanks := 0
		for i, end := range g.ends {
			if end < len(b.lines[i].line) && b.lines[i].line[end] == ' ' {
				blanks++
			}
		}
		if 10*blanks < 9*len(g.ends) {
			continue
		}
		blank := " "
		for i, end := range g.ends {
			from := end
			for end < len(b.lines[i].line) && b.lines[i].line[end] == ' ' {
				end++
			}
			if b.at[i] = end; end > from+1 {
				blank = " +"
			}
		}
		b.name(g.part)
		b.lacking = append(b.lacking, "(?:"+form+blank+")?")
		b.pattern += b.lacking[len(b.lacking)-1]
		return true
	}
	return false
}

// mayLack tells whether parts of a kind can be there on some lines and not on others.
func mayLack(kind string) bool {
	return strings.HasPrefix(kind, "level") || slices.Contains([]string{"LEVEL:", "[client]", "*", "account@",
		"[pid:tid]",
		"[pid", "[client", "program [pid]:", "tag:"}, kind)
}

// levelForm is the pattern for a level that only some lines have: of brackets any word, of
// bare words those that are levels, written as they are here; "" where the word is none.
func (b *building) levelForm(g *partGroup) string {
	upper, lower := 0, 0
	bracket := false
	for i := range g.ends {
		w := strings.TrimLeft(b.lines[i].line[b.at[i]:], "[<( ")
		bracket = bracket || len(w) < len(b.lines[i].line[b.at[i]:])
		switch {
		case len(w) > 1 && w[0] >= 'a':
			lower++
		case len(w) > 1 && w[1] < 'a':
			upper++
		}
	}
	if bracket {
		for i, at := range b.at { // others have other words there
			if _, ok := g.ends[i]; !ok && at >= 0 && strings.HasPrefix(b.lines[i].line[at:], "[") {
				return strings.Replace(g.part.pattern, `\w+`, levelWords(upper, lower), 1)
			}
		}
		return g.part.pattern
	}
	if !strings.HasSuffix(g.part.pattern, ":") && lower+upper < len(g.ends) || lower > 0 &&
		!strings.HasSuffix(g.part.pattern, ":") {
		return "" // a word of the text
	}
	return strings.Replace(strings.Replace(g.part.pattern, `\w+`, levelWords(upper, lower), 1), `[A-Z]+\d?`,
		levelWords(upper, lower), 1)
}

// levelWords are the levels that there are, written in capitals, small letters or as names
// are.
func levelWords(upper, lower int) string {
	words := []string{"trace", "debug", "verbose", "info", "notice", "note", "warning", "warn", "error", "severe",
		"critical", "crit", "fatal", "alert", "emergency", "emerg", "panic"}
	for i, w := range words {
		if upper > 0 {
			words[i] = strings.ToUpper(w)
		} else if lower == 0 {
			words[i] = strings.ToUpper(w[:1]) + w[1:]
		}
	}
	return strings.Join(words, "|")
}

// patternOf builds a pattern for lines: their time, and the parts in front of it and
// behind that most of them have; what only some have may be lacking.
func patternOf(lines []timedLine, f *TimeFormat) headPattern {
	b := &building{lines: lines, at: make([]int, len(lines)), pattern: "^",
		r: partReader{taken: map[string]bool{}, timed: f == nil, soft: soft(lines), wide: somebody(lines)}}
	for range maxHead {
		groups := b.next()
		if len(groups) > 0 && b.settled(groups[0]) {
			if !b.lacks(groups[0]) || !b.optional(groups[:1], 1) {
				b.take(groups[0], f)
			}
		} else if !b.optional(groups, max(2, len(lines)/200)) {
			break
		}
	}
	out := headPattern{lacking: b.lacking}
	if !b.r.timed { // the time stands further behind
		out.gaveUp = true
		b.pattern += ".*?(?<at>" + timePattern(f, nextByte(lines)) + ")"
	}
	out.pattern = b.pattern + "(?<text>.*)$"
	if !strings.HasSuffix(b.pattern, " ") && !out.gaveUp && strings.HasSuffix(b.pattern, ")") {
		out.pattern = b.pattern + "\\s*(?<text>.*)$"
	}
	return out
}

// lacks tells whether some lines that fit so far lack a part which may be lacking.
func (b *building) lacks(g *partGroup) bool {
	n := 0
	for _, at := range b.at {
		if at >= 0 {
			n++
		}
	}
	return len(g.ends) < n && mayLack(g.part.kind)
}

// settled tells whether nearly all lines have a part.
func (b *building) settled(g *partGroup) bool {
	if 100*len(g.ends) < 90*len(b.lines) {
		return false
	}
	switch g.part.kind {
	case "host":
		return b.fewHosts(g)
	case "program@":
		return b.few(g)
	}
	return true
}

// soft tells whether words such as LOG and DETAIL are levels of these lines: they end with a
// colon and two blanks, and real levels stand there as well.
func soft(lines []timedLine) bool {
	n := 0
	for _, l := range lines {
		if softAt.MatchString(l.line) {
			n++
		}
	}
	return 10*n > len(lines)
}

// somebody tells whether programs have somebody in parentheses behind their names.
func somebody(lines []timedLine) bool {
	n := 0
	for _, l := range lines {
		if l.end > 0 && wideAt.MatchString(l.line[l.end:]) {
			n++
		}
	}
	return 50*n > len(lines)
}

var wideAt = regexp.MustCompile(`^\W{0,3}[A-Za-z][\w-]*\([^()\s]+\)(?:<[^<>\s]*>)*: `)

var softAt = regexp.MustCompile(`\b(?:LOG|DETAIL|STATEMENT|ERROR|FATAL|WARNING|NOTICE|INFO):  \S`)

// nextByte is what stands behind the time in most lines; 0 where the line ends.
func nextByte(lines []timedLine) byte {
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

// fewHosts tells whether the words that lines have at their places can be the names of
// hosts: few, and such as hosts have.
func (b *building) fewHosts(g *partGroup) bool {
	like := 0
	for i := range g.ends {
		if hostLike(wordAt(b.lines[i].line, b.at[i])) {
			like++
		}
	}
	return 10*like >= 9*len(g.ends) && b.few(g)
}

// few tells whether the words that lines have at their places are few.
func (b *building) few(g *partGroup) bool {
	different := map[string]bool{}
	for i := range g.ends {
		different[wordAt(b.lines[i].line, b.at[i])] = true
	}
	return len(different) <= 3 || 2*len(different) <= len(g.ends) || len(g.ends) < 8
}

func wordAt(s string, i int) string {
	end := strings.IndexByte(s[i:], ' ')
	if end < 0 {
		return s[i:]
	}
	return s[i : i+end]
}

// Describe puts a proposal's figure into words, with its times as they are written.
func (p *Proposal) Describe() string {
	if p.Name == "plain" {
		return fmt.Sprintf("plain: %d entries", p.Of)
	}
	return p.What + ": " + p.Fit.In(time.UTC)
}
