package author

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
)

// Rule writes a rule of which the entry is a hit: its text with its numbers left open, and counted by
// the host, and by what identifies what it speaks of. It also says why it is counted by that, and not by
// what differs each time.
func Rule(s *lang.Settings, src *lang.Source, plan *match.Plan, sample []byte, raw string, severity entry.Severity,
	now entry.Instant) (text string, why []string) {
	l := s.Layout(src.LayoutName())
	x, _ := plan.Divide(&layout.Divider{Layout: plan.Layout}, []byte(raw), now)
	said := saidBy(l, strings.ToValidUTF8(raw, ""), x.Fields)
	list := sampled(l, plan, sample, now)
	var pattern string
	var key *Slot
	var hits []utterance
	if said.status != "" {
		pattern = "status == " + lang.Quote(said.status)
		if strings.Trim(said.status, "0123456789") == "" {
			pattern = "status == " + said.status
		}
		for _, u := range list {
			if u.status == said.status {
				hits = append(hits, u)
			}
		}
	} else if said.event != "" { // its identifier says what it is, however it is worded
		pattern = "event == " + lang.Quote(said.event)
		if strings.Trim(said.event, "0123456789") == "" {
			pattern = "event == " + said.event
		}
		for _, u := range list {
			if u.event == said.event {
				hits = append(hits, u)
			}
		}
	} else {
		var texts []string
		for _, u := range list {
			texts = append(texts, u.text)
		}
		if i := slices.Index(texts, said.text); i >= 0 { // the entry itself
			texts = slices.Delete(texts, i, i+1)
		}
		v := Over(said.text, nil, texts)
		if key = v.Key(); key != nil {
			why = append(why, fmt.Sprintf("per %s: %s, in %d that say it", key.Name, key.Say(), v.N))
		}
		for i := range v.Slots {
			if o := &v.Slots[i]; o.Why != "" && o.Name != "" {
				why = append(why, fmt.Sprintf("not per %s: %s (%s)", o.Name, o.Why, o.Say()))
			}
		}
		pattern = v.Pattern(key)
		if re, err := regexp.Compile(strings.ReplaceAll(pattern[1:len(pattern)-1], `\/`, "/")); err == nil {
			for _, u := range list {
				if re.MatchString(u.text) {
					hits = append(hits, u)
				}
			}
		}
	}
	per := []string{}
	hosted := l != nil && plan.Layout.GivesHost() || src.Host != "" || src.HostFrom != nil
	if hosted {
		per = append(per, "host")
	}
	if field, because := keyField(l, said, hits, hosted, key); field != "" {
		key = nil
		per = append(per, field)
		why = append([]string{because}, why...)
	}
	if key != nil {
		per = append(per, key.Name)
	}
	if severity == 0 {
		severity = entry.Warning
	}
	var b strings.Builder
	fmt.Fprintf(&b, "rule %s {\non %s\nproblem %s\n", ruleName(said, hits, src.Name, s), src.Name, pattern)
	if len(per) > 0 {
		fmt.Fprintf(&b, "per %s\n", strings.Join(per, ", "))
	}
	fmt.Fprintf(&b, "raise %s\nclear after 1h quiet\n\nexpect \"the entry that it began with\" {\nline %s\nthen "+
		"raised %s\n}\n}\n", severity, lang.Quote(strings.ToValidUTF8(raw, "\uFFFD")), severity)
	return lang.Parse("new", []byte(b.String())).Format(), why
}

// utterance is what an entry says.
type utterance struct {
	text, event string
	status      string // of an answer, where nothing is said besides it
	fields      []entry.Field
}

// saidBy is what an entry says under a layout; nil is none.
func saidBy(l *lang.Layout, raw string, fields []entry.Field) utterance {
	u := utterance{text: raw, fields: fields}
	spoken, at := false, ""
	for _, f := range fields {
		switch {
		case f.Name == "text":
			u.text, spoken = f.Value, true
		case f.Name == "at":
			at = f.Value
		case f.Name == "status" && code.MatchString(f.Value):
			u.status = f.Value
		case f.Name == "event" && l != nil && l.Format == "event-xml":
			u.event = f.Value
		}
	}
	u.text, _, _ = strings.Cut(u.text, "\n")
	if spoken {
		u.status = ""
	} else if head, tail, ok := strings.Cut(u.text, at); ok && at != "" { // when it was is nothing that it says
		u.text = strings.TrimLeft(tail, "])>\"' ,;|")
		if len(head) > len(u.text) {
			u.text = head
		}
	}
	return u
}

// mostSampled is how many entries of a sample are looked at.
const mostSampled = 5_000

func sampled(l *lang.Layout, plan *match.Plan, sample []byte, now entry.Instant) []utterance {
	var out []utterance
	d := layout.Divider{Layout: plan.Layout}
	plan.Entries(sample, func(line []byte) {
		if len(out) < mostSampled {
			x, _ := plan.Divide(&d, line, now)
			out = append(out, saidBy(l, strings.ToValidUTF8(string(line), ""), slices.Clone(x.Fields)))
		}
	})
	return out
}

// notKeys are fields that say what an entry is, when it was, or what wrote it, and identify nothing.
var notKeys = words(`text level at program provider channel event category fits host facility severity priority
	unit-name method protocol status agent referrer user-agent query opcode keywords record boot-id machine-id msgid
	message msg logger caller request path ident transport tzknown`)

// portOf is an address with a port, which is another one with each connection.
var portOf = regexp.MustCompile(`^(?:\d{1,3}(?:\.\d{1,3}){3}|\[[0-9a-fA-F:.]+\]):\d+$`)

// keyField is the field by which hits are better told apart than by a slot of their text, which may be
// nil, and why; "" where none is.
func keyField(l *lang.Layout, said utterance, hits []utterance, hosted bool, slot *Slot) (field, because string) {
	if slot != nil && slot.Always {
		return "", ""
	}
	own := func(name string) bool { return l != nil && slices.Contains(l.Fields(), name) }
	best := 0
	for _, f := range said.fields {
		last := strings.ToLower(f.Name[strings.LastIndexAny(f.Name, "-._")+1:])
		if lower := strings.ToLower(f.Name); notKeys[lower] || differing[last] || lang.Reserved(f.Name) ||
			!lang.IsName(f.Name) || f.Value == "" || f.Value == "-" || portOf.MatchString(f.Value) ||
			len(f.Value) > 100 || strings.Count(f.Value, " ") > 2 {
			continue
		}
		if kind := ""; l != nil {
			if kind = l.Types[f.Name]; kind != "" && kind != "text" && kind != "address" && kind != "integer" {
				continue
			}
		}
		values := map[string]bool{f.Value: true}
		n := 1
		for _, u := range hits {
			for _, g := range u.fields {
				if g.Name == f.Name {
					values[g.Value] = true
					n++
				}
			}
		}
		d, named := len(values), identifying[last] || identifying[strings.ToLower(f.Name)]
		measured := strings.Trim(f.Value, "0123456789.,-") == "" && strings.ContainsAny(f.Value, ".,") &&
			!address.MatchString(f.Value)
		weight := 0
		switch {
		case f.Name == "client" && strings.HasPrefix(said.status, "5"): // it is the server that fails
		case measured, d*2 > n && n >= 4 && (!named || n >= 10 && d*5 > n*4):
		case named:
			weight = 3
		case said.event != "" && !own(f.Name) && (d > 1 || n < 4): // a datum of the event
			weight = 2
		case d > 1 && d < 50 && n >= 4 && !hosted && slot == nil && strings.Trim(f.Value, "0123456789") != "":
			weight = 1
		}
		if weight > best {
			best, field = weight, f.Name
			because = fmt.Sprintf("per %s: it identifies, %d different in the %d that say it", f.Name, d, n-1)
		}
	}
	if best < 2 && slot != nil {
		return "", ""
	}
	return field, because
}

// mute are words that say nothing of a problem.
var mute = map[string]bool{"the": true, "this": true, "that": true, "has": true, "have": true, "been": true,
	"was": true, "were": true, "are": true, "for": true, "from": true, "with": true, "and": true}

// mostNamed is how long a name is that has four words.
const mostNamed = 26

// ruleName makes a name, that no other rule has, of what all hits say: of no value that differs, and of
// none that has a field.
func ruleName(said utterance, hits []utterance, source string, s *lang.Settings) string {
	spoken := func(text string) []string { return Spoken.FindAllString(strings.ToLower(text), -1) }
	all := slices.DeleteFunc(spoken(said.text), func(w string) bool { return mute[w] })
	words := slices.Clone(all)
	for _, u := range hits[:min(len(hits), 200)] {
		too := spoken(u.text)
		words = slices.DeleteFunc(words, func(w string) bool { return !slices.Contains(too, w) })
	}
	for _, f := range said.fields {
		if f.Name != "text" && len(hits) < 2 {
			values := spoken(f.Value)
			words = slices.DeleteFunc(words, func(w string) bool { return slices.Contains(values, w) })
		}
	}
	if len(words) == 0 {
		words = all
	}
	n := min(len(words), 3)
	if len(words) > n && len(strings.Join(words[:n+1], "-")) <= mostNamed {
		n++
	}
	words = words[:n]
	if named := source + "-" + said.status; said.status != "" && lang.IsName(named) {
		words = []string{named}
	}
	if len(words) == 0 {
		words = []string{source}
	}
	if lang.Reserved(words[0]) {
		words = append([]string{source}, words...)
	}
	want := strings.Join(words, "-")
	name := want
	for n := 2; s.Rule(name) != nil || s.Source(name) != nil; n++ {
		name = fmt.Sprintf("%s-%d", want, n)
	}
	return name
}
