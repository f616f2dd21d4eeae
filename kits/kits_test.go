package kits_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/lang"
	"dimlantern/core/trial"
	"dimlantern/folder"
	"dimlantern/kits"
)

// Each kit holds what kits promise: nothing to find fault with, a way to clear, words and advice, tests that pass,
// questions and a report; in the one canonical form. A kit of files has the value logs.
func TestKits(t *testing.T) {
	for _, name := range kits.Names() {
		t.Run(name, func(t *testing.T) {
			s, texts, ds, err := folder.LoadKit("", name)
			require.NoError(t, err)
			for _, d := range ds {
				assert.Equal(t, lang.Note, d.Weight, "%s", d)
			}
			for _, x := range texts {
				assert.Equal(t, x.Body, lang.Parse(x.Name, []byte(x.Body)).Format(),
					"it is not in the canonical form")
				for i, l := range strings.Split(x.Body, "\n") {
					if i < 12 && strings.HasPrefix(l, "#") {
						assert.LessOrEqual(t, len([]rune(l)), 120, "%s:%d", x.Name, i+1)
					}
				}
			}
			require.Len(t, s.Kits, 1)
			k := s.Kits[0]
			assert.NotEmpty(t, k.Note)
			assert.NotEmpty(t, k.Needs)
			given := ""
			for _, g := range k.Given {
				given += g.Name + " "
			}
			for _, src := range s.Sources {
				if len(src.Files) > 0 {
					assert.Contains(t, given, "logs")
				}
			}
			assert.NotEmpty(t, s.Asks)
			assert.NotEmpty(t, s.Reports)
			assert.NotEmpty(t, s.Rules)
			for _, r := range s.Rules {
				assert.NotEmpty(t, r.Say, r.Name)
				assert.NotEmpty(t, r.Advise, r.Name)
				assert.NotEmpty(t, r.Expects, r.Name)
				assert.NotEmpty(t, r.On, "%s would look at everybody's entries", r.Name)
				assert.NotNil(t, r.Per, "%s does not say per what", r.Name)
			}
			for _, o := range trial.Expects(s) {
				assert.False(t, o.Failed, "%s: %s: %s", o.Rule+o.Layout, o.Expect.Title, o.Why)
			}
		})
	}
}

// All kits can be used at once: what they share says the same, and no two rules have one name.
func TestAllKitsTogether(t *testing.T) {
	body := "settings {\n"
	for _, name := range kits.Names() {
		body += "use kit " + name + "\n"
	}
	path := filepath.Join(t.TempDir(), "all.lantern")
	require.NoError(t, folder.WriteNew(path, body+"}\n"))
	texts, err := folder.Read(path)
	require.NoError(t, err)
	s, ds := folder.Check(texts)
	for _, d := range ds {
		assert.Equal(t, lang.Note, d.Weight, "%s", d)
	}
	alone := 0
	for _, name := range kits.Names() {
		one, _, _, err := folder.LoadKit("", name)
		require.NoError(t, err)
		alone += len(one.Rules)
	}
	assert.Len(t, s.Rules, alone)
}

// A kit speaks plainly: no rule of it says a field that none of its entries can have.
func TestKitsSayWhatTheyKnow(t *testing.T) {
	field := regexp.MustCompile(`\{([\w.-]+)\}`)
	for _, name := range kits.Names() {
		s, _, _, err := folder.LoadKit("", name)
		require.NoError(t, err)
		for _, r := range s.Rules {
			known := map[string]bool{"count": true, "span": true, "first": true, "last": true, "severity": true,
				"text": true,
				"host": true, "origin": true, "source": true, "channel": true, "provider": true, "event": true,
				"account": true,
				"level":   true, "param1": true, "LINK": true}
			for _, src := range s.Sources {
				if l := s.Layout(src.LayoutName()); l != nil {
					for _, f := range l.Fields() {
						known[f] = true
					}
				}
				for _, f := range src.Fields {
					known[f.Name] = true
				}
			}
			for _, x := range r.Exprs() {
				for _, c := range lang.Captures(x.Expr) {
					known[c] = true
				}
			}
			for _, m := range field.FindAllStringSubmatch(r.Say+r.Advise, -1) {
				assert.True(t, known[m[1]], "%s: %s says {%s}", name, r.Name, m[1])
			}
		}
	}
}

// The page about the kits says what they say.
func TestDocument(t *testing.T) {
	b, err := os.ReadFile("../docs/kits.md")
	require.NoError(t, err)
	require.Equal(t, kits.Document(), string(b), "make kits-page writes it")
}
