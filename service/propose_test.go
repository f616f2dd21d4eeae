package service_test

import (
	"testing"

	"dimlantern/workbench"

	"github.com/stretchr/testify/assert"

	"dimlantern/core/lang"
	"dimlantern/core/layout"
)

// What is proposed for a log can be taken as it is, whatever the log is called.
func TestProposalChecksClean(t *testing.T) {
	for _, name := range []string{"json", "syslog", "plain", "rule", "source", "layout", "and", "not", "in", "at",
		"text", "7", "Ünder way"} {
		p := &layout.Proposal{Clauses: []string{"json", `time at like "2026-11-24T05:32:28Z"`}}
		path := "/var/log/" + name + ".log"
		text := workbench.Proposed(p, workbench.SourceName(path), []string{path})
		_, ds := lang.Check([]*lang.File{lang.Parse("x", []byte(text))}, lang.Env{Time: layout.CheckTime})
		assert.False(t, lang.Errors(ds), "%v\n%s", ds, text)
	}
}
