package service

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"dimlantern/core/engine"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever was edited since the state was written out whole, and however often, the journal
// makes the engine what it was, to the byte, and the settings as well.
func TestEditsAreReplayed(t *testing.T) {
	edits := []func(string) string{
		func(s string) string { return strings.Replace(s, "per      host, pump", "per      host", 1) },
		func(s string) string { return strings.Replace(s, "low/", "(low|idle)/", 1) },
		func(s string) string { return strings.Replace(s, "fine/", "(fine|idle)/", 1) },
		func(s string) string {
			return s + "rule another {\n  problem \"idle\"\n  raise   notice\n  clear   after 10m quiet\n}\n"
		},
		func(s string) string { return strings.Replace(s, "remind   every 3m", "remind   every 5m", 1) },
	}
	edited := 0
	for seed := range uint64(25) {
		r := rand.New(rand.NewPCG(seed, 5))
		p := newPlace(t, t.TempDir())
		p.open()
		text := fmt.Sprintf(rules, p.dir)
		now := time.Date(2026, 11, 24, 5, 0, 0, 0, time.UTC)
		for range 1 + r.IntN(6) {
			for range r.IntN(12) {
				now = now.Add([]time.Duration{0, 1, 30, 60, 200}[r.IntN(5)] * time.Second)
				p.append(fmt.Sprintf("%s %s pump %d %s\n", now.Format(time.RFC3339), []string{"a", "b"}[r.IntN(2)], 1+
					r.IntN(2),
					[]string{"low", "low", "fine", "idle"}[r.IntN(4)]))
			}
			p.step(now)
			if r.IntN(2) == 0 {
				text = edits[r.IntN(len(edits))](text)
				p.edit(text)
				edited++
			}
		}
		require.NoError(t, p.s.commit())
		state, rest := p.s.engine.Encode(), p.s.rest
		snap, err := p.s.store.Meta("snapshot")
		require.NoError(t, err)
		again := &Service{o: p.s.o, house: p.s.house, store: p.s.store}
		require.NoError(t, again.recover())
		require.Equal(t, state, again.engine.Encode(), "seed %d", seed)
		require.Equal(t, p.s.texts, again.texts)
		if rest > 0 {
			require.NotEqual(t, snap, state, "it was the journal that told")
		}
		p.crash()
	}
	assert.Greater(t, edited, 25)
}

// A journal that is cut or changed is found out, and never taken for another one.
func TestDamagedEdits(t *testing.T) {
	p := newPlace(t, t.TempDir())
	p.open()
	p.edit(fmt.Sprintf(rules, p.dir) + "# more\n")
	whole := []byte{editMark, 4, '{', '"', 'x', '"'}
	for n := range whole {
		if n > 0 {
			require.Error(t, p.s.replayJournal(whole[:n]), "%q", whole[:n])
		}
	}
	require.ErrorContains(t, p.s.replayJournal(whole), "an edit in the journal cannot be read")
	require.ErrorIs(t, p.s.replayJournal([]byte{editMark, 0xff, 0xff, 0xff, 0xff, 0x0f}), engine.ErrInput)
	p.crash()
}
