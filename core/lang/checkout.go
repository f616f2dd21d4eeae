package lang

import (
	"fmt"
	"slices"
	"strings"
)

// out resolves what reports, measures and deliveries name, and tells what is doubtful about them.
func (k *checker) out() {
	s := k.settings
	s.Reports = slices.DeleteFunc(s.Reports, func(r *Report) bool { return !k.report(r) })
	s.Counts = slices.DeleteFunc(s.Counts, func(m *Measure) bool { return !k.measure(m) })
	s.Delivers = slices.DeleteFunc(s.Delivers, func(d *Deliver) bool { return !k.deliver(d) })
	k.sameNames()
}

// report resolves a report; false where it cannot be made.
func (k *checker) report(r *Report) bool {
	f, s := k.file[r], k.settings
	ok := true
	for _, n := range r.Asks {
		if n == Handover || s.Ask(n) != nil {
			continue
		}
		ok = false
		if !contains(k.names["ask"], n) {
			all := []string{Handover}
			for _, q := range s.Asks {
				all = append(all, q.Name)
			}
			k.at(f, r, "report", "ask", n, Err, "unknown-name", fmt.Sprintf("there is no question %q", n),
				meant(n, all))
		}
	}
	for i, n := range r.Tell {
		if !contains(k.names["contact"], n) {
			ok = false
			f.report(Err, "unknown-name", r.tells[i], fmt.Sprintf("there is no contact %q", n),
				meant(n, k.names["contact"]))
		}
	}
	switch {
	case r.Off || !ok:
	case r.Every != nil && len(r.Tell) == 0 && r.Write == "" && f.kit == "": // a kit knows no contacts
		k.at(
			f,
			r,
			"report",
			"every",
			"",
			Finding,
			"nobody-gets-it",
			fmt.Sprintf("the report %s is made, and nobody gets it", r.Name),
			`write: tell CONTACT, or write "/FOLDER"`,
		)
	case r.Every == nil && len(r.Tell)+len(r.Write) > 0:
		k.at(f, r, "report", "", "", Finding, "never-due",
			fmt.Sprintf("the report %s is due never: it is made only when somebody asks for it", r.Name),
			scheduleMend)
	}
	if r.Covers == nil && r.Every != nil {
		for _, n := range r.Asks {
			if q := s.Ask(n); q != nil && q.Over != nil && q.Over.D == 0 && q.Over.Named == "" {
				k.at(f, r, "report", "ask", n, Finding, "same-span",
					fmt.Sprintf("the question %s is always about the "+"same time, %s, so each report says the same",
						n, q.Over), "write: covers last week, or another span")
			}
		}
	}
	return ok
}

// sources resolves the sources of a block; false where one is not there.
func (k *checker) sources(node any, kind string, on []string) bool {
	ok := true
	for _, n := range on {
		if k.settings.Source(n) != nil || n == Itself {
			continue
		}
		ok = false
		if !contains(k.names["source"], n) {
			k.at(k.file[node], node, kind, "on", n, Err, "unknown-name", fmt.Sprintf("there is no source %q", n),
				meant(n, append([]string{"all"}, k.names["source"]...)))
		}
	}
	return ok
}

// measure resolves a measure; false where it cannot be.
func (k *checker) measure(m *Measure) bool {
	f := k.file[m]
	if !k.sources(m, "measure", m.On) {
		return false
	}
	q := &Question{Pos: m.Pos, Name: m.Name, On: m.On, Where: m.Where, Ignore: m.Ignore, Per: m.Per,
		Show: []Column{{Fn: "count"}}}
	if m.Field != "" {
		q.Show = []Column{{Fn: "last", Field: m.Field}}
	}
	k.asked(m, "measure", q)
	m.Seconds = q.Units[m.Field] == "duration"
	if strings.HasPrefix(OutName(m.Name), "dimlantern_") {
		f.report(Err, "bad-name", token{pos: m.Pos, src: m.Name}, "measures called dimlantern… are "+
			"those of Dim Lantern itself", "give it another name")
	}
	labels := map[string]string{"le": "le"}
	if m.Fn != "spread" {
		labels = map[string]string{}
	}
	for _, p := range m.Per {
		if was, twice := labels[OutName(p)]; twice {
			what := fmt.Sprintf("%s and %s are both %s for other systems", was, p, OutName(p))
			if was == p {
				what = "the bounds of a spread are the label le already"
			}
			k.at(f, m, "measure", "per", p, Err, "same-name", what, "map one of them to another name in the layout")
		}
		labels[OutName(p)] = p
	}
	if b := k.index(f).at[m.Pos]; b != nil && f.broken(b) {
		return false
	}
	if to := k.settings.Measures; !m.Off && to.Listen == "" && to.To == "" {
		k.at(f, m, "measure", "", "", Finding, "nobody-asks",
			fmt.Sprintf("%s is counted, and no other system can ask for it", m.Name),
			`write: settings { measures listen "127.0.0.1:7424" }`)
	}
	return true
}

// OutNames are the names under which a measure stands in a page of measures.
func (m *Measure) OutNames() []string {
	n := OutName(m.Name)
	switch m.Fn {
	case "count", "sum":
		n = strings.TrimSuffix(n, "_total")
		return []string{n, n + "_total", n + "_created"}
	case "spread":
		return []string{n, n + "_bucket", n + "_sum", n + "_count", n + "_created"}
	}
	return []string{n}
}

// sameNames refuses measures that other systems would take for one.
func (k *checker) sameNames() {
	s := k.settings
	taken := map[string]string{}
	s.Counts = slices.DeleteFunc(s.Counts, func(m *Measure) bool {
		for _, n := range m.OutNames() {
			if was, twice := taken[n]; twice {
				what := fmt.Sprintf("%s and %s are both %s for other systems", was, m.Name, n)
				k.file[m].report(Err, "same-name", token{pos: m.Pos, src: m.Name}, what,
					"give one of them another name")
				return true
			}
		}
		for _, n := range m.OutNames() {
			taken[n] = m.Name
		}
		return false
	})
}

// OutFields are the words in the path of files, and in a subject, that are no fields of entries.
var OutFields = []string{"date", "hour"}

// deliver resolves a delivery; false where it cannot be.
func (k *checker) deliver(d *Deliver) bool {
	f, s := k.file[d], k.settings
	if !k.sources(d, "deliver", d.On) {
		return false
	}
	q := &Question{Pos: d.Pos, Name: d.Name, On: d.On, Where: d.Where, Ignore: d.Ignore,
		Show: []Column{{Fn: "entries"}}}
	for _, p := range append(Template(d.To.Path), Template(d.To.Subject)...) {
		if p.Field != "" && !contains(OutFields, p.Field) {
			q.Show = append(q.Show, Column{Fn: "last", Field: p.Field})
		}
	}
	before := len(f.diags)
	k.asked(d, "deliver", q)
	for i := range f.diags[before:] { // a field of the path stands inside a text
		if x := &f.diags[before+i]; x.Code == "unknown-field" {
			x.Mend += "; a path also has " + strings.Join(OutFields, " and ")
		}
	}
	if b := k.index(f).at[d.Pos]; b != nil && f.broken(b) {
		return false
	}
	if d.Off {
		return true
	}
	for _, src := range s.SourcesOf(q) {
		switch {
		case d.To.Kind == "files" && !src.Off && slices.ContainsFunc(src.Files, func(g string) bool {
			return mayMeet(d.To.Path, g)
		}):
			k.at(
				f,
				d,
				"deliver",
				"to",
				"files",
				Finding,
				"reads-itself",
				fmt.Sprintf("the source %s reads the files "+
					"that this writes, so each entry would come again and again", src.Name),
				"write to another folder, or leave it out of the source: except \""+
					strings.ReplaceAll(globOf(d.To.Path), "//", "/")+"\"",
			)
		case d.To.Kind == "syslog" && slices.ContainsFunc(src.Listen, func(l Listen) bool {
			return l.Proto == d.To.Proto && samePort(l.Address, d.To.Address)
		}):
			k.at(f, d, "deliver", "to", "syslog", Finding, "reads-itself", fmt.Sprintf("the source %s listens where "+
				"this delivers to, so each entry would come again and again", src.Name),
				"deliver to another machine or port, or leave the source out of on")
		}
	}
	return true
}

// globOf is the path of a delivery with * in the places of its fields.
func globOf(path string) string {
	out := ""
	for _, p := range Template(path) {
		if p.Field != "" {
			p.Text = "*"
		}
		out += p.Text
	}
	return out
}

// mayMeet tells whether a path with fields and a glob may mean the same file. Further names stand behind
// the path's own where a new file is begun.
func mayMeet(path, glob string) bool {
	return meet(globOf(path), glob) || meet(globOf(path)+".*", glob)
}

// meet tells whether two globs have a text in common; ** and * stand for any text, ? for a character, and
// [ for one of some.
func meet(a, b string) bool {
	type pair struct{ i, j int }
	seen := map[pair]bool{}
	var at func(i, j int) bool
	at = func(i, j int) bool {
		if seen[pair{i, j}] {
			return false
		}
		seen[pair{i, j}] = true
		switch {
		case i == len(a) && j == len(b):
			return true
		case i < len(a) && a[i] == '*':
			return at(i+1, j) || j < len(b) && at(i, j+1)
		case j < len(b) && b[j] == '*':
			return at(i, j+1) || i < len(a) && at(i+1, j)
		case i == len(a) || j == len(b):
			return false
		case b[j] == '[':
			end := strings.IndexByte(b[j:], ']')
			return end > 0 && at(i+1, j+end+1)
		}
		return (a[i] == b[j] || a[i] == '?' || b[j] == '?') && at(i+1, j+1)
	}
	return at(0, 0)
}

// samePort tells whether an address that is listened at may be one of this machine that is sent to.
func samePort(listen, to string) bool {
	i, j := strings.LastIndexByte(listen, ':'), strings.LastIndexByte(to, ':')
	if i < 0 || j < 0 || listen[i:] != to[j:] {
		return false
	}
	host := strings.Trim(to[:j], "[]")
	here := []string{strings.Trim(listen[:i], "[]"), "localhost", "::1"}
	return contains(here, host) || strings.HasPrefix(host, "127.")
}
