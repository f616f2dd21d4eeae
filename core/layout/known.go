package layout

import (
	"regexp"
	"strings"
	"time"

	"dimlantern/core/entry"
)

// webLine is an entry of a web log in the common or the combined form, with whatever a server
// was told to write in front of it and behind it.
var webLine = regexp.MustCompile(`^(?:([\w.*-]+):(\d+) |([\w.-]+) )?(\S+) \S+ \S+ \[\d{1,` +
	`2}/[A-Z][a-z]{2}/\d{4}:[^\]]+\] ` +
	`"(?:[^"\\]|\\.)*" \d{3} (?:\d+|-)( "(?:[^"\\]|\\.)*" "(?:[^"\\]|\\.)*")?(.*)$`)

// web proposes the web logs.
func (x *detection) web() {
	if x.share(func(l string) bool { return strings.Contains(l, "] \"") }) < 0.5 {
		return
	}
	x.add(Proposal{What: "a combined web log", Name: "combined"}, 1.5)
	x.add(Proposal{What: "a common web log", Name: "clf"}, 1.5)
	ported, hosted, agents, rests, n := 0, 0, 0, 0, 0
	for _, l := range x.lines {
		m := webLine.FindStringSubmatch(l)
		if m == nil {
			continue
		}
		n++
		for i, count := range []*int{&ported, nil, &hosted, nil, &agents, &rests} {
			if count != nil && m[i+1] != "" {
				*count++
			}
		}
	}
	if 10*n < 9*len(x.lines) || ported+hosted+rests == 0 {
		return
	}
	pattern := "^"
	switch {
	case 10*ported > 9*n:
		pattern += `(?<host>[\w.*-]+):(?<port>\d+) `
	case 10*hosted > 9*n:
		pattern += `(?<host>[\w.-]+) `
	case ported+hosted > 0:
		return
	}
	pattern += `(?<client>\S+) (?<ident>\S+) (?<account>\S+) \[(?<at>[^\]]+)\] "(?<request>(?<method>[A-Z]+) ` +
		`(?<path>[^ ?"]*)(?:\?(?<query>[^ "]*))?(?: (?<protocol>[^"]*))?|(?:[^"\\]|\\.)*)" (?<status>\d{3}) ` +
		`(?<bytes>\d+|-)`
	if 10*agents > 9*n {
		pattern += ` "(?<referrer>(?:[^"\\]|\\.)*)" "(?<agent>(?:[^"\\]|\\.)*)"`
	}
	if rests > 0 {
		pattern += `(?: (?<rest>.*))?`
	}
	x.add(Proposal{What: "a web log with more in it", Clauses: []string{"pattern " + written1(pattern+"$"),
		`time at like "24/Nov/2026:05:32:28 +0000"`}}, 1.5)
}

// proxyLine is an entry of a caching proxy in its native form: when, how long in
// milliseconds, who, what became of it, how many bytes, what was asked for, by whom, where it
// was fetched, of what type.
var proxyLine = regexp.MustCompile(`^\d{10}\.\d{3} +\d+ \S+ [A-Z_]+/\d{3} \d+ [A-Z_]+ \S+ \S+ [A-Z_]+/\S+ \S+`)

// proxy proposes the native log of caching proxies.
func (x *detection) proxy() {
	if x.share(proxyLine.MatchString) < 0.9 {
		return
	}
	x.add(Proposal{What: "the access log of a proxy", Clauses: []string{"pattern " + written1(
		`^(?<at>[\d.]+) +(?<took>\d+) (?<client>\S+) (?<result>[A-Z_]+)\/(?<status>\d+) (?<bytes>\d+) (?<method>`+
			`[A-Z_]+) `+
			`(?<path>\S+) (?<account>\S+) (?<route>[A-Z_]+)\/(?<peer>\S+) (?<type>\S+)(?<rest>.*)$`),
		`time at like "1795498348.114"`, "type took duration in ms"}}, 1.5)
}

// databaseColumns are the columns of a relational database's log as CSV: the first 23 are in
// every version of it, the further ones in newer ones.
var databaseColumns = strings.Fields("at account database pid client session line command session-start " +
	"virtual-transaction transaction level sqlstate text detail hint internal-query internal-position context query " +
	"query-position location application backend leader query-id")

// knownColumns names the columns of records of n cells whose form is known by its shape; nil where it is none.
func knownColumns(records [][]cell, n int) []string {
	if n != 23 && n != 24 && n != 26 {
		return nil
	}
	records = records[:min(len(records), 50)]
	fit := 0
	for _, r := range records {
		if len(r) == n && entry.LevelWritten(r[11].s) > 0 && len(r[12].s) == 5 && whenLike(r[0].s) && whenLike(r[8].s) {
			fit++
		}
	}
	if 10*fit < 9*len(records) {
		return nil
	}
	return databaseColumns[:n]
}

// whenLike tells whether a text is a time.
func whenLike(s string) bool {
	w, ok := timeIs(s)
	if !ok {
		return false
	}
	_, ok = w.Format.Parse(s, time.UTC, 0)
	return ok
}
