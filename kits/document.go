package kits

import (
	_ "embed"
	"fmt"
	"strings"

	"dimlantern/core/lang"
)

// head is what stands in the document before the kits.
//
//go:embed head.md
var head string

// Document is a page about all kits, made from them.
func Document() string {
	var b strings.Builder
	b.WriteString(head)
	b.WriteString("| kit | for |\n|---|---|\n")
	all := map[string]*lang.Settings{}
	for _, name := range Names() {
		var files []*lang.File
		for _, f := range Files(name) {
			files = append(files, lang.ParseKit(name, f.Name, []byte(f.Body)))
		}
		all[name], _ = lang.Check(files, lang.Env{ErrorsOnly: true})
		fmt.Fprintf(&b, "| [%s](#%s) | %s |\n", name, name, cell(all[name].Kits[0].Note))
	}
	for _, name := range Names() {
		one(&b, name, all[name])
	}
	return b.String()
}

// one writes about one kit.
func one(b *strings.Builder, name string, s *lang.Settings) {
	k := s.Kits[0]
	fmt.Fprintf(b, "\n### %s\n\n%s.\n", name, k.Note)
	for _, f := range Files(name) {
		if said := opening(f.Body); said != "" {
			fmt.Fprintf(b, "%s\n", said)
		}
	}
	var needs []string
	for _, n := range k.Needs {
		needs = append(needs, n.String())
	}
	fmt.Fprintf(b, "\nIt fits where there is: %s.\n", strings.Join(needs, ", and "))
	if len(k.Given) > 0 {
		var given []string
		for _, g := range k.Given {
			given = append(given, "`"+g.Name+" "+g.Value+"`")
		}
		fmt.Fprintf(b, "Its values: %s.\n", strings.Join(given, ", "))
	}
	var sources []string
	for _, x := range s.Sources {
		sources = append(sources, fmt.Sprintf("`%s` (%s)", x.Name, x.Where()))
	}
	fmt.Fprintf(b, "It reads %s.\n\n", strings.Join(sources, ", "))
	b.WriteString("| rule | it says | what to do first |\n|---|---|---|\n")
	for _, r := range s.Rules {
		fmt.Fprintf(b, "| `%s` %s | %s | %s |\n", r.Name, worst(r), cell(r.Say), cell(r.Advise))
	}
	var asks []string
	for _, q := range s.Asks {
		if !q.BuiltIn() {
			asks = append(asks, fmt.Sprintf("`%s` (%s)", q.Name, q.Note))
		}
	}
	fmt.Fprintf(b, "\nQuestions: %s. Report: `%s`.\n", strings.Join(asks, ", "), s.Reports[0].Name)
}

// worst says how bad a rule's alerts can be.
func worst(r *lang.Rule) string {
	from, to := r.Raises[0].Severity, r.Raises[0].Severity
	for _, x := range r.Raises {
		from, to = min(from, x.Severity), max(to, x.Severity)
	}
	if from == to {
		return to.String()
	}
	return from.String() + " to " + to.String()
}

// opening are the comment lines with which a file begins.
func opening(body string) string {
	var out []string
	for line := range strings.Lines(body) {
		said, ok := strings.CutPrefix(line, "# ")
		if !ok {
			break
		}
		out = append(out, strings.TrimSpace(said))
	}
	return strings.Join(out, "\n")
}

func cell(s string) string { return strings.ReplaceAll(s, "|", `\|`) }
