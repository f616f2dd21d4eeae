// Package core holds nothing itself; its tests hold that the packages below it
// compute only, and that lines are short.
package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The core knows no screen, file, network or clock.
func TestCoreIsPure(t *testing.T) {
	allowed := map[string]bool{}
	for _, p := range strings.Fields(`bytes container/heap crypto/sha256 encoding/base32 encoding/binary encoding/json
		encoding/xml errors fmt io iter maps
		cmp hash/fnv crypto/aes crypto/cipher crypto/hmac encoding/base64 encoding/csv
		math math/big path math/bits net/netip regexp regexp/syntax slices sort strconv strings sync time
		unicode unicode/utf16 unicode/utf8 golang.org/x/sys/cpu
		github.com/klauspost/compress/s2`) { // which computes, and knows no more than that
		allowed[p] = true
	}
	clock := map[string]bool{"Now": true, "Since": true, "Until": true, "After": true, "AfterFunc": true,
		"Tick": true, "NewTimer": true, "NewTicker": true, "Sleep": true, "LoadLocation": true, "Local": true}
	files := 0
	require.NoError(t, filepath.WalkDir(".", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files++
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		require.NoError(t, err)
		for _, i := range f.Imports {
			p, _ := strconv.Unquote(i.Path.Value)
			assert.True(t, allowed[p] || strings.HasPrefix(p, "dimlantern/core/"), "%s imports %s", path, p)
		}
		ast.Inspect(f, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok {
				if x, ok := s.X.(*ast.Ident); ok && x.Name == "time" {
					assert.False(t, clock[s.Sel.Name], "%s uses time.%s", path, s.Sel.Name)
				}
			}
			return true
		})
		return nil
	}))
	require.Greater(t, files, 15)
}

// No line of the whole product is wider than 120 columns, a tab being four.
func TestLinesFit(t *testing.T) {
	require.NoError(t, filepath.WalkDir("..", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") {
			return err
		}
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		for i, line := range strings.Split(string(text), "\n") {
			width := utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    "))
			assert.LessOrEqual(t, width, 120, "%s:%d", path, i+1)
		}
		return nil
	}))
}
