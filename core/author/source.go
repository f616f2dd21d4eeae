package author

import (
	"fmt"
	"strings"

	"dimlantern/core/lang"
	"dimlantern/core/layout"
)

// OwnLayout is a layout's name that no other layout has, and none that is built in.
func OwnLayout(settings *lang.Settings, name string) string {
	own := name
	for n := 2; own == "plain" || settings.Layout(own) != nil; n++ {
		own = fmt.Sprintf("%s-%d", name, n)
	}
	return own
}

// SourceText writes a proposal for files that are quoted; with none the source is standard
// input.
func SourceText(p *layout.Proposal, name, own string, files []string, begin string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "source %s {\n", name)
	if files == nil {
		b.WriteString("input\n")
	} else {
		fmt.Fprintf(&b, "files %s\nbegin %s\n", strings.Join(files, ", "), begin)
	}
	if p.Starts != "" {
		fmt.Fprintf(&b, "entry starts %s\n", (&lang.Pattern{Source: p.Starts}).String())
	}
	if p.Name != "" {
		fmt.Fprintf(&b, "layout %s\n}\n", p.Name)
	} else {
		fmt.Fprintf(&b, "layout %s\n}\n\nlayout %s {\n%s\n}\n", own, own, strings.Join(p.Clauses, "\n"))
	}
	return lang.Parse("", []byte(b.String())).Format()
}
