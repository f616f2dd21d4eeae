package main

import (
	"bytes"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// What JSON says on a terminal is what it says elsewhere, and changes no terminal, however
// it is cut into pieces.
func TestEscaping(t *testing.T) {
	const text = "a\u009b2J b\u202ec é \u2066x\u200f \u007f ☂ \ufeffend"
	want, err := json.Marshal(text)
	require.NoError(t, err)
	for piece := 1; piece < len(want); piece++ {
		var b bytes.Buffer
		w := &escaping{to: &b}
		for at := 0; at < len(want); at += piece {
			_, err := w.Write(want[at:min(at+piece, len(want))])
			require.NoError(t, err)
		}
		assert.NotRegexp(t, "[\u007f-\u009f\u200e\u200f\u202a-\u202e\u2066-\u2069\ufeff]", b.String())
		var got string
		require.NoError(t, json.Unmarshal(b.Bytes(), &got))
		assert.Equal(t, text, got)
	}
}

// However a text is cut on its way to a terminal, it arrives as a whole, and nothing in it can change the terminal.
func TestShownInPieces(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.String().Draw(t, "text")
		var out bytes.Buffer
		w := &showing{to: &out}
		for b := []byte(text); len(b) > 0; {
			n := rapid.IntRange(1, len(b)).Draw(t, "piece")
			m, err := w.Write(b[:n])
			require.NoError(t, err)
			require.Equal(t, n, m)
			b = b[n:]
		}
		require.Equal(t, shownLines(text), out.String())
	})
}
