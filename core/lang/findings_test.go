package lang_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/lang"
	"dimlantern/core/trial"
)

var fenced = regexp.MustCompile("(?s)```\n(.*?)```")

// Everything that check can say has its place in the document, where the first example
// has it and the second is well.
func TestFindingsDocument(t *testing.T) {
	b, err := os.ReadFile("../../docs/findings.md")
	require.NoError(t, err)
	told := map[string]bool{}
	weights := map[string]lang.Weight{"Errors": lang.Err, "Findings": lang.Finding, "Notes": lang.Note}
	for _, chapter := range strings.Split(string(b), "\n## ")[1:] {
		weight, known := weights[strings.SplitN(chapter, "\n", 2)[0]]
		require.True(t, known)
		for _, part := range strings.Split(chapter, "\n### ")[1:] {
			code := strings.SplitN(part, "\n", 2)[0]
			told[code] = true
			examples := fenced.FindAllStringSubmatch(part, -1)
			if len(examples) == 0 { // it needs a file beside the settings
				continue
			}
			require.Len(t, examples, 2, code)
			_, bad := check(examples[0][1])
			assert.True(t, slices.ContainsFunc(bad,
				func(d lang.Diagnostic) bool { return d.Code == code && d.Weight == weight }), "%s:\n%s\n%v", code,
				examples[0][1], bad)
			for _, d := range bad {
				assert.Equal(t, code, d.Code, "one mistake, one message:\n%s", d)
			}
			_, good := check(examples[1][1])
			assert.Empty(t, good, "%s:\n%s", code, examples[1][1])
		}
	}
	codes := codesOf(t)
	for _, code := range []string{trial.NeverFits, trial.TimesUnread, trial.TimesFar, lang.FitsNothing} {
		codes[code] = true
	}
	codes["bad-template"] = true // of the command check
	for code := range codes {
		assert.True(t, told[code], "%s is not in the document", code)
	}
	assert.Len(t, told, len(codes), "the document has codes that nothing tells")
}

// codesOf collects the codes that the sources of the language name where they tell
// something.
func codesOf(t *testing.T) map[string]bool {
	out := map[string]bool{}
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	code := regexp.MustCompile(`^"([a-z]+(-[a-z]+)+|syntax|incomplete|twice|unclosed|untested|unreachable)"$`)
	tells := []string{"report", "fail", "finding", "tell", "wrong", "clause", "at"}
	for _, f := range files {
		if strings.HasSuffix(f, "_test.go") {
			continue
		}
		tree, err := parser.ParseFile(token.NewFileSet(), f, nil, 0)
		require.NoError(t, err)
		ast.Inspect(tree, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			name := ""
			switch f := call.Fun.(type) {
			case *ast.Ident:
				name = f.Name
			case *ast.SelectorExpr:
				name = f.Sel.Name
			}
			if !slices.Contains(tells, name) {
				return true
			}
			for _, a := range call.Args {
				if l, ok := a.(*ast.BasicLit); ok && code.MatchString(l.Value) {
					out[strings.Trim(l.Value, `"`)] = true
				}
			}
			return true
		})
	}
	return out
}
