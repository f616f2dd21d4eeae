package main

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"dimlantern/api"
	"dimlantern/api/apitest"
	"dimlantern/core/entry"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// nasty are texts as an attacker would have them in a log: they clear the screen, name the window, turn the writing
// round, break lines, and are not even text.
func nasty(n int) string {
	return []string{"\x1b[2J\x1b]0;owned\x07", "gate\rheld", "\u202eevil\u2066", "a\nb\x00c", "\x9b31m",
		"\xff\xfe", "tab\there",
		"\x7f\x08\x08"}[n%8]
}

// answers lets a service answer with nasty texts in everything that it says.
func answers[Q, A any](d *api.Desk, e api.Endpoint[Q, A], mend func(*A)) {
	e.Answer(d, func(context.Context, Q) (*A, error) {
		a := new(A)
		apitest.Fill(a, nasty)
		if mend != nil {
			mend(a)
		}
		return a, nil
	})
}

// hostile is a service that says nasty things, and the folder of its data.
func hostile(t *testing.T) string {
	t.Helper()
	d := api.NewDesk()
	answers(d, api.AskStatus, nil)
	answers(d, api.AskSources, func(v *api.SourcesView) {
		for i := range v.Sources {
			for k := range v.Sources[i].Origins {
				v.Sources[i].Origins[k].Newest = entry.Instant(1_700_000_000_000_000_000)
			}
		}
	})
	answers(d, api.AskRules, nil)
	answers(d, api.AskContacts, nil)
	answers(d, api.AskHushes, nil)
	answers(d, api.AskShift, nil)
	answers(d, api.AskReports, nil)
	answers(d, api.AskMeasures, nil)
	answers(d, api.AskDeliveries, nil)
	answers(d, api.AskKeep, nil)
	answers(d, api.DoAct, nil)
	answers(d, api.DoTest, nil)
	answers(d, api.DoPut, nil)
	dir := t.TempDir()
	l, err := net.Listen("unix", filepath.Join(dir, "socket"))
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- d.Serve(ctx, l, nil) }()
	t.Cleanup(func() { stop(); require.NoError(t, <-done) })
	return dir
}

// Whatever a service says (and it says what logs say), no command lets it near the terminal: no control characters,
// nothing that turns the writing round, and only text. With --json each line is an object.
func TestNoCommandTrustsWhatItIsTold(t *testing.T) {
	data := hostile(t)
	for _, line := range []string{"status", "sources", "rules", "rules --slow", "contacts", "hush",
		"handover --since 1h",
		"handover --since 1h --markdown", "reports", "measures", "deliveries", "keep", "kits changes", "take abc",
		"note abc --words x", "tell crew --test"} {
		t.Run(line, func(t *testing.T) {
			var out, errs bytes.Buffer
			root := newRoot()
			root.SetOut(&showing{to: &out}) // as on a terminal
			root.SetErr(&showing{to: &errs})
			root.SetArgs(append(strings.Fields(line), "--data", data))
			err := root.Execute()
			said := out.String() + errs.String()
			if err != nil { // as main prints it
				(&showing{to: &errs}).Write([]byte(err.Error()))
				said = out.String() + errs.String()
			}
			harmless(t, said)
		})
	}
	for _, line := range []string{"status", "sources", "rules", "contacts", "reports", "measures", "deliveries",
		"keep",
		"handover --since 1h"} {
		t.Run(line+" --json", func(t *testing.T) {
			var out bytes.Buffer
			root := newRoot()
			root.SetOut(&showing{to: &out})
			root.SetErr(io.Discard)
			root.SetArgs(append(strings.Fields(line), "--json", "--data", data))
			var f failed
			if err := root.Execute(); err != nil {
				require.ErrorAs(t, err, &f)
			}
			harmless(t, out.String())
			dec := json.NewDecoder(&out)
			n := 0
			for dec.More() {
				var v map[string]any
				require.NoError(t, dec.Decode(&v))
				n++
			}
			require.Positive(t, n)
		})
	}
}

// harmless holds that a terminal shows a text as it stands there.
func harmless(t *testing.T, s string) {
	t.Helper()
	assert.True(t, utf8.ValidString(s), "it is text: %q", s)
	for i, r := range s {
		bad := r < 0x20 && r != '\n' && r != '\t' || r >= 0x7f && r < 0xa0 || r >= 0x202a && r <= 0x202e ||
			r >= 0x2066 && r <= 0x2069
		if bad {
			assert.Fail(t, "it reaches the terminal", "%q in %q", r, s[max(0, i-60):min(len(s), i+20)])
			return
		}
	}
}
