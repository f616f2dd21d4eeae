package workbench

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
	"dimlantern/core/trial"
	"dimlantern/folder"
	"dimlantern/intake"
	"dimlantern/query"
)

// BeginRule is part of Lantern.
func (s *Workbench) BeginRule(_ context.Context, q api.BeginQuery) (*api.Begun, error) {
	sn := s.Window.Now()
	settings := sn.Settings
	o := sn.Origin(q.Origin)
	if o == nil {
		return nil, query.NoOrigin(q.Origin)
	}
	src, path, host := o.Source, o.Newest(), o.Host
	if strings.TrimSpace(q.Raw) == "" {
		return nil, fmt.Errorf("a rule begins with an entry: choose one")
	}
	plan := match.NewPlan(settings, src, nil, time.Local)
	sample, err := intake.Tail(path, plan, entry.Of(time.Now().Add(24*time.Hour)), query.EntriesSize)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", path, folder.Reason(err))
	}
	text := RuleFor(settings, src, plan, sample, q)
	b := &api.Begun{Name: filepath.Join(sn.Folder(), nameOf(text)+".lantern"), Text: text}
	if err := tryBegun(b, settings, src, path, host, sample); err != nil {
		return nil, err
	}
	if q.Write {
		if err := folder.WriteNew(b.Name, b.Text); err != nil {
			return nil, err
		}
		b.Done = true
		s.Reload()
	}
	return b, nil
}

// ruleFor writes a rule of which the entry is a hit: its text with its numbers left
// open, and counted by the host or another field that tells writers apart, and by
// the number that a word names.
func RuleFor(s *lang.Settings, src *lang.Source, plan *match.Plan, sample []byte, q api.BeginQuery) string {
	text, hosted := strings.ToValidUTF8(q.Raw, ""), false
	by, event := "", ""
	var data []string // the data that an event names
	if l := s.Layout(src.LayoutName()); l != nil {
		hosted = plan.Layout.GivesHost()
		by = tellsApart(l, plan, sample)
		x, _ := plan.Divide(&layout.Divider{Layout: plan.Layout}, []byte(q.Raw), entry.Of(time.Now()))
		for _, f := range x.Fields {
			switch {
			case f.Name == "text":
				text = f.Value
			case f.Name == "event" && l.Format == "event-xml":
				event = f.Value
			case event != "" && !slices.Contains(l.Fields(), f.Name):
				data = append(data, f.Name)
			}
		}
	}
	text, _, _ = strings.Cut(text, "\n")
	pattern, named := PatternOf(text)
	if event != "" { // its identifier says what it is, however it is worded
		pattern, named = "event == "+lang.Quote(event), ""
		if strings.Trim(event, "0123456789") == "" {
			pattern = "event == " + event
		}
		if len(data) > 0 && !lang.Reserved(data[0]) {
			named = data[0]
		}
	}
	per := []string{}
	if hosted || src.Host != "" || src.HostFrom != nil {
		per = append(per, "host")
	} else if by != "" {
		per = append(per, by)
	}
	if named != "" {
		per = append(per, named)
	}
	severity := q.Severity
	if severity == 0 {
		severity = entry.Warning
	}
	var b strings.Builder
	fmt.Fprintf(&b, "rule %s {\non %s\nproblem %s\n", ruleName(text, src.Name, s), src.Name, pattern)
	if len(per) > 0 {
		fmt.Fprintf(&b, "per %s\n", strings.Join(per, ", "))
	}
	fmt.Fprintf(&b, "raise %s\nclear after 1h quiet\n\nexpect \"the entry that it began with\" {\nline %s\nthen raised %s\n}\n}\n", severity, lang.Quote(strings.ToValidUTF8(q.Raw, "\uFFFD")), severity)
	return lang.Parse("new", []byte(b.String())).Format()
}

// tellsApart is the first field of a layout that has several values, and not many:
// a machine or a place, but no number and no text.
func tellsApart(l *lang.Layout, plan *match.Plan, sample []byte) string {
	values := map[string]map[string]bool{}
	d := layout.Divider{Layout: plan.Layout}
	plan.Entries(sample, func(line []byte) {
		x, _ := plan.Divide(&d, line, entry.Of(time.Now()))
		for _, f := range x.Fields {
			if values[f.Name] == nil {
				values[f.Name] = map[string]bool{}
			}
			if len(values[f.Name]) < 100 {
				values[f.Name][f.Value] = true
			}
		}
	})
	for _, f := range l.Fields() {
		kind := l.Types[f]
		if n := len(values[f]); n > 1 && n < 50 && (kind == "" || kind == "text") && !slices.Contains([]string{"text", "level", "program", "pid"}, f) {
			return f
		}
	}
	return ""
}

var (
	varying = regexp.MustCompile(`([A-Za-z][A-Za-z_]{2,15})([ #:=]{1,2})(\d+(?:[.:,]\d+)*)\b|\d+(?:[.:,]\d+)*`)
	spoken  = regexp.MustCompile(`[A-Za-z]{3,}`)
)

// patternOf is a pattern that a line matches, with its numbers left open. The first
// whole number behind a word is a field of that name, which comes with it.
func PatternOf(text string) (pattern, named string) {
	var b strings.Builder
	at := 0
	for _, m := range varying.FindAllStringSubmatchIndex(text, -1) {
		b.WriteString(regexp.QuoteMeta(text[at:m[0]]))
		at = m[1]
		word, number := "", m[0]
		if m[2] >= 0 {
			number = m[6]
			word = strings.ToLower(text[m[2]:m[3]])
			b.WriteString(regexp.QuoteMeta(text[m[2]:m[6]]))
		}
		switch {
		case strings.ContainsAny(text[number:m[1]], ".:,"):
			b.WriteString(`[\d.:,]+`)
		case word != "" && named == "" && !slices.Contains(entry.BuiltIn, word) && !lang.Reserved(word):
			named = word
			fmt.Fprintf(&b, `(?<%s>\d+)`, word)
		default:
			b.WriteString(`\d+`)
		}
	}
	b.WriteString(regexp.QuoteMeta(text[at:]))
	return "/" + strings.ReplaceAll(b.String(), "/", `\/`) + "/", named
}

// hidden is what a mask has left of a value.
var hidden = regexp.MustCompile(`(?:\\\*){2,}`)

// patternOver is a pattern that all lines of a kind match, as tight as they allow: what is
// the same in all of them stays, what is not is left open.
func PatternOver(texts []string) (pattern, named string) {
	pattern, named = PatternOf(texts[0])
	pattern = hidden.ReplaceAllString(pattern, `\S+`)
	words := strings.Split(texts[0], " ")
	differ := make([][]string, len(words))
	any := false
	re, err := regexp.Compile(strings.ReplaceAll(pattern[1:len(pattern)-1], `\/`, "/"))
	for _, t := range texts[1:] {
		if err == nil && re.MatchString(t) {
			continue
		}
		other := strings.Split(t, " ")
		if len(other) != len(words) {
			continue // of another build: the rest decides
		}
		for i, w := range other {
			if varying.ReplaceAllString(w, "0") != varying.ReplaceAllString(words[i], "0") {
				differ[i] = append(differ[i], w)
				any = true
			}
		}
	}
	if !any {
		return pattern, named
	}
	var parts []string
	for from := 0; from < len(words); {
		if differ[from] != nil {
			parts = append(parts, openWord(words[from], differ[from]))
			from++
			continue
		}
		to := from
		for to < len(words) && differ[to] == nil {
			to++
		}
		p, name := PatternOf(strings.Join(words[from:to], " "))
		if named == "" || name != named { // the first name alone
			p = strings.Replace(p, "(?<"+name+`>\d+)`, `\d+`, 1)
		}
		parts = append(parts, hidden.ReplaceAllString(p[1:len(p)-1], `\S+`))
		from = to
	}
	pattern = "/" + strings.Join(parts, " ") + "/"
	if named != "" && !strings.Contains(pattern, "(?<"+named+">") {
		named = ""
	}
	return pattern, named
}

// openWord leaves open what differs in a word; what it begins and ends with in all cases
// stays where that is no part of a word.
func openWord(word string, others []string) string {
	common := func(at func(s string) byte, cut func(s string) string) string {
		var out []byte
		w, rest := word, slices.Clone(others)
		for w != "" && !alnum(at(w)) {
			for i := range rest {
				if rest[i] == "" || at(rest[i]) != at(w) {
					return string(out)
				}
				rest[i] = cut(rest[i])
			}
			out = append(out, at(w))
			w = cut(w)
		}
		return string(out)
	}
	head := common(func(s string) byte { return s[0] }, func(s string) string { return s[1:] })
	tail := []byte(common(func(s string) byte { return s[len(s)-1] }, func(s string) string { return s[:len(s)-1] }))
	slices.Reverse(tail)
	return strings.ReplaceAll(regexp.QuoteMeta(head)+`\S+`+regexp.QuoteMeta(string(tail)), "/", `\/`)
}

func alnum(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c >= 0x80
}

// ruleName makes a name of a text that no other rule has.
func ruleName(text, source string, s *lang.Settings) string {
	words := spoken.FindAllString(strings.ToLower(text), 3)
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

func nameOf(rule string) string { return strings.Fields(rule)[1] }

// try runs the rule over the newest entries of the log.
func tryBegun(b *api.Begun, s *lang.Settings, src *lang.Source, path, host string, sample []byte) error {
	f := lang.Parse("new", []byte(b.Text))
	with := *s
	with.Rules = nil
	files := []*lang.File{f}
	own, ds := lang.Check(append(files, lang.Parse("its source", []byte(fmt.Sprintf("source %s { files \"/x\" }", src.Name)))), lang.Env{Time: layout.CheckTime})
	if lang.Errors(ds) {
		return fmt.Errorf("no rule can be made of this entry: %s", ds[0].What)
	}
	with.Rules = own.Rules
	plain := *src
	plain.Encoding = "utf-8" // as Tail gives it
	sum, err := trial.Replay(&with, []*trial.Input{{Source: &plain, Path: path, Host: host, Files: []io.Reader{bytes.NewReader(sample)}, Near: entry.Of(time.Now())}},
		trial.Options{Zone: time.Local})
	b.Hits, b.Looked, b.Raised = sum.Hits, sum.Entries, sum.Raised
	return err
}
