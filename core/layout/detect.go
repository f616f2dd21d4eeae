package layout

import (
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"
	"unicode/utf8"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Proposal is a layout that may fit a sample, and how well it does.
type Proposal struct {
	What    string   // in words: "JSON", "a pattern"
	Clauses []string // of the layout, as rules write them; none of one that is built in or plain
	Name    string   // of the built-in layout, where that is enough
	Starts  string   // the pattern with which entries of several lines start; "" where each line is one
	Notes   []string // what is to be said of it
	Fit

	score float64
}

// maxSample bounds how many lines are looked at.
const maxSample = 4000

// Detect proposes layouts for lines that follow each other in a log, the best first.
// The last one is always plain. Near is about when they were written.
func Detect(lines []string, near entry.Instant) []Proposal {
	if len(lines) > maxSample { // the first ones, for headers, and the newest
		lines = append(slices.Clone(lines[:maxSample/2]), lines[len(lines)-maxSample/2:]...)
	}
	var some []string
	for _, l := range lines {
		if strings.TrimSpace(l) != "" {
			some = append(some, l)
		}
	}
	x := &detection{lines: some, near: near}
	if len(some) > 0 {
		x.open()
		x.web()
		x.proxy()
		x.delimited()
		x.pairs()
		if !slices.ContainsFunc(x.out, func(p Proposal) bool {
			return 10*p.Fits > 9*p.Of && p.Timed > 0 &&
				p.score > 1.4
		}) {
			x.blocks()
			x.patterns()
		}
	}
	sort.SliceStable(x.out, func(i, j int) bool { return x.out[i].score > x.out[j].score })
	x.out = slices.DeleteFunc(x.out, func(p Proposal) bool { return p.score <= 0 || 2*p.Fits < p.Of })
	return append(x.out, Proposal{What: "plain", Name: "plain",
		Fit: Fit{Of: len(some), Fits: len(some), First: entry.None, Last: entry.None}})
}

type detection struct {
	lines []string
	near  entry.Instant
	out   []Proposal
	// objects is the part of the lines that begin as objects of JSON do.
	objects float64
}

// Layout makes the layout of a proposal; nil is plain. A proposal that does not check
// is answered with false.
func (p *Proposal) Layout() (*lang.Layout, bool) {
	if p.Name == "plain" {
		return nil, true
	}
	s, ds := lang.Check([]*lang.File{lang.Parse("proposal", []byte(p.Text("proposal")))}, lang.Env{Time: CheckTime})
	if p.Name != "" {
		return s.Layout(p.Name), true
	}
	l := s.Layout("proposal")
	return l, l != nil && !lang.Errors(ds)
}

// Text is the layout as a settings file has it; "" where a built-in one is enough.
func (p *Proposal) Text(name string) string {
	if p.Name != "" {
		return ""
	}
	f := lang.Parse("", []byte("layout "+name+" {\n"+strings.Join(p.Clauses, "\n")+"\n}\n"))
	return f.Format()
}

// EntriesOf joins the lines that belong together: starts is the pattern with which entries begin,
// "" where each line is one.
func EntriesOf(lines []string, starts string) []string {
	if starts == "" {
		return lines
	}
	re, err := regexp.Compile(starts)
	if err != nil {
		return lines
	}
	var out []string
	for _, l := range lines {
		if len(out) == 0 || re.MatchString(l) {
			out = append(out, l)
		} else if n := len(out) - 1; len(out[n]) < 64<<10 {
			out[n] += "\n" + l
		}
	}
	return out
}

// add measures a proposal and takes it up. Weight says how telling a fit of it is.
func (x *detection) add(p Proposal, weight float64) {
	l, ok := p.Layout()
	if !ok {
		return
	}
	p.Fit = FitOf(Compile(l, time.UTC, nil), EntriesOf(x.lines, p.Starts), x.near)
	if p.Of == 0 {
		return
	}
	fits := float64(p.Fits) / float64(p.Of)
	p.score = fits*fits*weight + 0.3*float64(p.Timed)/float64(p.Of)
	timed := slices.ContainsFunc(p.Clauses, func(c string) bool { return strings.HasPrefix(c, "time ") })
	switch {
	case fits < 0.5 || timed && p.Timed == 0:
		p.score = 0
	case timed && 2*p.Timed < p.Fits: // most of its times cannot be read
		p.score *= 0.4
	}
	if x.objects > 0.5 && (p.What == "a pattern" || p.Starts != "" && p.Name == "") {
		p.score /= 4 // objects of JSON divide better
	}
	x.out = append(x.out, p)
}

// share is the part of the lines for which something holds.
func (x *detection) share(holds func(string) bool) float64 {
	n := 0
	for _, l := range x.lines {
		if holds(l) {
			n++
		}
	}
	return float64(n) / float64(len(x.lines))
}

// wellKnown are our names for fields that open formats call otherwise, by their names
// without capitals and marks.
var wellKnown = map[string]string{"msg": "text", "message": "text", "logmessage": "text", "eventmessage": "text",
	"log": "text", "hostname": "host", "server": "host", "servername": "host", "hostid": "host",
	"computer": "host", "computername": "host", "node": "host", "machine": "host", "lvl": "level",
	"severity": "level", "errorseverity": "level", "loglevel": "level", "priority": "level", "sev": "level",
	"levelname": "level",
	"app":       "program", "service": "program", "process": "program", "logger": "program", "component": "program",
	"processid": "pid", "user": "account", "username": "account",
	"csusername": "account", "clientip": "client", "remotehost": "client", "dbname": "database", "cip": "client",
	"remoteaddr": "client", "srcip": "client"}

// open tries the formats in which every entry names its fields.
func (x *detection) open() {
	first := strings.TrimSpace(strings.TrimPrefix(x.lines[0], "\ufeff"))
	x.objects = x.share(func(l string) bool { return strings.HasPrefix(strings.TrimSpace(l), "{") })
	switch {
	case x.objects > 0.5:
		if x.share(func(l string) bool { return strings.Contains(l, `"__REALTIME_TIMESTAMP"`) }) > 0.5 {
			x.add(Proposal{What: "the system journal as JSON", Name: "journal"}, 1.5)
		}
		x.add(x.named("JSON", "json"), 1.4)
	case strings.HasPrefix(first, "__CURSOR="):
		x.add(Proposal{What: "the system journal's export format", Name: "journal", Starts: `^__CURSOR=`}, 1.5)
	case x.share(func(l string) bool { return strings.HasPrefix(strings.TrimSpace(l), "<Event") }) > 0.02 &&
		strings.Contains(strings.Join(x.lines[:min(len(x.lines), 60)], ""), "<System>"):
		p := Proposal{What: "event XML", Name: "event-xml"}
		if x.share(func(l string) bool {
			return strings.HasSuffix(strings.TrimSpace(l), "</Event>") && strings.Contains(l, "<Event")
		}) < 0.9 {
			p.Starts = `^\s*<Event[ >]`
		}
		x.add(p, 1.5)
	}
	if x.share(func(l string) bool { return strings.HasPrefix(l, "#Fields:") }) > 0 {
		x.add(x.named("a W3C extended log", "w3c"), 1.5)
	}
	pairs := x.share(func(l string) bool {
		key, _, ok := strings.Cut(l, "=")
		return ok && named(strings.TrimSpace(key)) && strings.Count(l, "=") > 1
	})
	if pairs > 0.5 {
		x.add(x.named("logfmt", "logfmt"), 1.2)
	}
}

// named completes an open format: which field is the time, and which have names of
// ours.
func (x *detection) named(what, format string) Proposal {
	p := Proposal{What: what, Clauses: []string{format}}
	l, _ := p.Layout()
	if l == nil {
		return p
	}
	d := &Divider{Layout: Compile(l, time.UTC, nil)}
	counts, samples := map[string]int{}, map[string][]string{}
	var order []string
	for _, line := range x.lines {
		if d.See([]byte(line)) {
			continue
		}
		for _, f := range d.Divide([]byte(line), x.near).Fields {
			if counts[f.Name]++; counts[f.Name] == 1 {
				order = append(order, f.Name)
			}
			if len(samples[f.Name]) < 200 {
				samples[f.Name] = append(samples[f.Name], f.Value)
			}
		}
	}
	p.Clauses = append(p.Clauses, x.clausesOf(order, counts, samples, format == "w3c")...)
	if len(p.Clauses) == 1 {
		p.Clauses, p.Name = nil, format
	}
	return p
}

// clausesOf are the time, the mappings and the types of named fields.
func (x *detection) clausesOf(order []string, counts map[string]int, samples map[string][]string,
	timed bool) []string {
	var out []string
	if !timed {
		best, rank := "", len(timeNames)
		for _, n := range order {
			if r := timeRank(n[strings.LastIndexByte(n, '.')+1:]); r >= 0 && r < rank && 2*counts[n] > len(x.lines) {
				if c := timeClause(n, samples[n]); c != "" {
					best, rank = c, r
				}
			}
		}
		if best == "" && counts["date"] > 0 && counts["time"] > 0 {
			var both []string
			for i := range min(len(samples["date"]), len(samples["time"])) {
				both = append(both, samples["date"][i]+" "+samples["time"][i])
			}
			best = timeClause("date, time", both)
		}
		if best == "" { // a column of another name
			for _, n := range order {
				if 2*counts[n] > len(x.lines) {
					if c := timeClause(n, samples[n]); c != "" && !strings.Contains(c, "epoch") &&
						digits(samples[n][0], 0) < len(samples[n][0]) {
						best = c
						break
					}
				}
			}
		}
		if best != "" {
			out = append(out, best)
		}
	}
	taken := map[string]bool{}
	for _, n := range order {
		taken[n] = true
	}
	for _, n := range order {
		last := n[strings.LastIndexByte(n, '.')+1:]
		ours := wellKnown[bareName(n)]
		if ours == "" && strings.Contains(n, ".") {
			switch bareName(last) {
			case "level", "lvl":
				ours = "level"
			case "hostname":
				ours = "host"
			}
		}
		if ours == "" || taken[ours] || 5*counts[n] < len(x.lines) {
			continue
		}
		if ours == "level" && entry.LevelWritten(samples[n][0]) == 0 {
			continue
		}
		taken[ours] = true
		out = append(out, "map "+n+" to "+ours)
	}
	for _, n := range order {
		if unitDurations(samples[n]) {
			out = append(out, "type "+n+" duration")
		} else if unitDecimals(samples[n]) {
			out = append(out, "type "+n+" decimal")
		}
	}
	return out
}

// timeClause writes the time clause for a field by its values; "" where they are no
// times.
func timeClause(field string, values []string) string {
	example, order, open := "", "", 0
	read := 0
	sig := ""
	for i, v := range values {
		if 10*(i-read) > len(values) { // too many are none
			return ""
		}
		w, ok := timeIs(v)
		if !ok || len(v) < 8 {
			continue
		}
		if n := digits(v, 0); n == len(v) && (n == 10 || n == 13 || n == 16 || n == 19) || n == 10 && n < len(v) &&
			v[n] == '.' && w.Format.elems[0].part == partEpoch {
			at, ok := w.Format.Parse(v, time.UTC, 0)
			if !ok || at < entry.Of(time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)) ||
				at > entry.Of(time.Date(2100, 1, 1, 0, 0, 0, 0, time.UTC)) {
				continue
			}
		}
		if s := w.Format.signature(); sig == "" || !w.Open {
			sig = s
		}
		read++
		if w.Open {
			open++
			if example == "" {
				example = v
			}
		} else {
			example = v
		}
	}
	if 10*read < 9*len(values) || read == 0 {
		return ""
	}
	if open == read {
		order, _ = orderOf(values)
	}
	if order != "" {
		return fmt.Sprintf("time %s like %s %s first", field, lang.Quote(example), order)
	}
	if order == "" && open > 0 && open < read { // others tell the order apart
		if _, err := TimeLike(example, ""); err != nil {
			return ""
		}
	}
	return fmt.Sprintf("time %s like %s", field, lang.Quote(example))
}

// unitDurations tells whether values are spans of time with a unit that means nothing
// else.
func unitDurations(values []string) bool {
	sure := 0
	for _, v := range values {
		if _, ok := duration(v, ""); !ok {
			return false
		}
		if strings.HasSuffix(v, "ms") || strings.HasSuffix(v, "us") || strings.HasSuffix(v, "µs") ||
			strings.HasSuffix(v, "ns") || strings.HasSuffix(v, "sec") {
			sure++
		}
	}
	return sure > 0
}

// unitDecimals tells whether values are numbers only once units or marks are taken off
// them.
func unitDecimals(values []string) bool {
	n, units := 0, 0
	different := map[string]bool{}
	for _, v := range values {
		if _, ok := entry.ParseNumber(v); ok {
			n++
		} else if _, ok := decimal(v); ok && len(v) < 24 {
			n++
			units++
			different[strings.TrimLeft(v, "+-.,'0123456789 ")] = true
		}
	}
	return len(different) <= 3 && units*2 > len(values) && n*10 >= 9*len(values)
}

// delimited tries columns with a delimiter between them.
func (x *detection) delimited() {
	for _, by := range []string{"\t", ";", "|", ","} {
		c := &columns{by: by}
		lines := joined(x.lines, by)
		counts := map[int]int{}
		records := make([][]cell, len(lines))
		for i, l := range lines {
			records[i] = c.split(nil, l)
			counts[len(records[i])]++
		}
		n, most := 0, 0
		for k, v := range counts {
			if v > most || v == most && k > n {
				n, most = k, v
			}
		}
		if n < 2 || most*10 < 9*len(lines) || len(lines) < 2 {
			continue
		}
		starts := ""
		if len(lines) < len(x.lines) {
			if starts = startOfRecords(lines); starts == "" {
				continue
			}
		}
		head := headerNames(c, lines[0])
		d := &Divider{Layout: &Layout{columns: &columns{by: by, header: true}}}
		header := len(head) == n && d.isHeader([]byte(lines[0])) && !likeTheRest(c, lines, n)
		if !header && n < 3 {
			continue
		}
		if known := knownColumns(records, n); known != nil && !header {
			head = known
		} else if !header {
			head = make([]string, n)
		}
		p := x.columned(c, lines, head, header)
		p.Starts = starts
		x.add(p, 1.1)
	}
}

// joined puts the lines together in which a quoted cell goes on.
func joined(lines []string, by string) []string {
	if by == "\t" || !slices.ContainsFunc(lines, func(l string) bool { return strings.Count(l, `"`)%2 != 0 }) {
		return lines
	}
	var out []string
	if timed := startsWithTime(lines); 3*timed > len(lines) { // quotes may be cut in two by a sample's edge
		for _, l := range lines {
			if _, ok := timeFrom(l, 0); ok {
				out = append(out, l)
			} else if len(out) > 0 {
				out[len(out)-1] += "\n" + l
			}
		}
		return out
	}
	open := 0 // lines for which a quote is open
	for _, l := range lines {
		odd := strings.Count(l, `"`)%2 != 0
		if open > 0 && open < 500 {
			out[len(out)-1] += "\n" + l
			if open++; odd {
				open = 0
			}
			continue
		}
		out = append(out, l)
		if open = 0; odd {
			open = 1
		}
	}
	return out
}

// startsWithTime counts the lines that begin with a time.
func startsWithTime(lines []string) int {
	n := 0
	for _, l := range lines {
		if _, ok := timeFrom(l, 0); ok {
			n++
		}
	}
	return n
}

// startOfRecords is the pattern with which records begin that begin with their time; ""
// where they do not.
func startOfRecords(records []string) string {
	n := 0
	var f *TimeFormat
	for _, r := range records {
		if w, ok := timeFrom(r, 0); ok {
			n++
			f = w.Format
		}
	}
	if 20*n < 19*len(records) {
		return ""
	}
	return "^" + timePattern(f, ',')
}

// likeTheRest tells whether the cells of the first line stand in others as well, so
// that it is no header.
func likeTheRest(c *columns, lines []string, n int) bool {
	first := c.split(nil, lines[0])
	same := 0
	for _, l := range lines[1:min(len(lines), 200)] {
		cells := c.split(nil, l)
		if l == lines[0] || len(cells) != n {
			continue
		}
		for i := range cells {
			if cells[i].s == first[i].s && cells[i].s != "" {
				same++
			}
		}
	}
	return same > 0
}

// columned makes the proposal for columns; those that have no name in names get one by
// their values.
func (x *detection) columned(c *columns, lines, names []string, header bool) Proposal {
	n := len(names)
	values := make([][]string, n)
	for _, l := range lines {
		cells := c.split(nil, l)
		if len(cells) != n || header && l == lines[0] {
			continue
		}
		for i, v := range cells {
			values[i] = append(values[i], v.text(""))
		}
	}
	taken := map[string]bool{}
	for i := range names {
		if names[i] == "" {
			names[i] = nameOf(values[i], i)
		}
		for base, k := names[i], 2; taken[names[i]] || names[i] == ""; k++ {
			names[i] = fmt.Sprintf("%s-%d", base, k)
		}
		taken[names[i]] = true
	}
	clause := "delimited " + lang.Quote(c.by) + " columns " + strings.Join(names, ", ")
	what := map[string]string{"\t": "columns with tabs between them", ",": "columns with commas between them",
		";": "columns with ; between them", "|": "columns with | between them"}[c.by]
	if header {
		clause += " header"
		what += " and a header line"
	}
	p := Proposal{What: what, Clauses: []string{clause}}
	counts, samples := map[string]int{}, map[string][]string{}
	for i, name := range names {
		for _, v := range values[i] {
			if v != "" {
				counts[name]++
				samples[name] = append(samples[name], v)
			}
		}
	}
	p.Clauses = append(p.Clauses, x.clausesOf(names, counts, samples, false)...)
	return p
}

// nameOf names a column by its values.
func nameOf(values []string, i int) string {
	var some []string
	for _, v := range values {
		if v != "" && v != "-" {
			some = append(some, v)
		}
	}
	every := func(holds func(string) bool) bool {
		for _, v := range some {
			if !holds(v) {
				return false
			}
		}
		return len(some) > 0
	}
	switch {
	case timeClause("x", some) != "" && every(func(v string) bool { return len(v) >= 10 }):
		return "at"
	case every(func(v string) bool { return entry.Level(v) > 0 }):
		return "level"
	case every(func(v string) bool { _, ok := typed(v, "address", "", nil, 0); return ok }):
		return "client"
	case every(hostLike) && slices.ContainsFunc(some,
		func(v string) bool { return strings.ContainsAny(v, "-0123456789") }):
		return "host"
	case every(hostLike):
		return "program"
	case every(func(v string) bool { return strings.Count(v, " ") > 1 }):
		return "text"
	}
	return fmt.Sprintf("c%d", i+1)
}

// hostLike tells whether a word may be a host's name.
func hostLike(s string) bool {
	if len(s) < 2 || len(s) > 64 || !letter(s[0]) || entry.Level(s) > 0 {
		return false
	}
	marks := false
	for i := range len(s) {
		c := s[i]
		if !isAlnum(c) && c != '-' && c != '.' && c != '_' || c >= utf8.RuneSelf {
			return false
		}
		marks = marks || c-'0' <= 9 || c == '-' || c == '.'
	}
	return marks && isAlnum(s[len(s)-1])
}
