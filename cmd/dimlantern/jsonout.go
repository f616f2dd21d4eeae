package main

import (
	"fmt"
	"io"
	"os"
	"unicode/utf8"

	"golang.org/x/term"
)

// jsonOut is where JSON is printed: on a terminal, characters that could change it are
// written as JSON escapes; elsewhere every byte goes as it is.
func jsonOut(out io.Writer) io.Writer {
	if s, ok := out.(*showing); ok {
		return &escaping{to: s.to}
	}
	return out
}

// guarded is where commands print: on a terminal nothing that they print can change it, whoever wrote it; elsewhere
// every byte goes as it is.
func guarded(f *os.File) io.Writer {
	if term.IsTerminal(int(f.Fd())) {
		return &showing{to: f}
	}
	return f
}

// showing writes text with what could change a terminal made visible, but for line ends and tabs.
type showing struct {
	to   io.Writer
	rest []byte // of a character of which not all has come
}

func (s *showing) Write(p []byte) (int, error) {
	b := append(s.rest, p...)
	whole := len(b)
	for n := 1; n < utf8.UTFMax && n <= len(b); n++ {
		if tail := b[len(b)-n:]; utf8.RuneStart(tail[0]) {
			if !utf8.FullRune(tail) {
				whole = len(b) - n
			}
			break
		}
	}
	s.rest = append([]byte(nil), b[whole:]...)
	_, err := io.WriteString(s.to, shownLines(string(b[:whole])))
	return len(p), err
}

// escaping writes control characters and marks that turn the direction of writing as \u and
// four digits. It is for JSON, in which they can stand in strings alone.
type escaping struct {
	to   io.Writer
	rest []byte // of a character of which not all has come
}

func (e *escaping) Write(p []byte) (int, error) {
	b := append(e.rest, p...)
	var out []byte
	for len(b) > 0 && (utf8.FullRune(b) || len(b) >= utf8.UTFMax) {
		r, n := utf8.DecodeRune(b)
		switch {
		case r == utf8.RuneError && n == 1:
			out = append(out, `\ufffd`...)
		case r == 0x7f, r >= 0x80 && r < 0xa0, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069,
			r == 0x200e, r == 0x200f, r == 0x061c, r == 0x2028, r == 0x2029, r == 0xfeff:
			out = fmt.Appendf(out, `\u%04x`, r)
		default:
			out = append(out, b[:n]...)
		}
		b = b[n:]
	}
	e.rest = append([]byte(nil), b...)
	_, err := e.to.Write(out)
	return len(p), err
}
