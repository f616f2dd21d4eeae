package entry

import (
	"strings"
)

// Visible makes what a log line could do to a terminal visible instead: control
// characters become their pictures (␛ for an escape), and marks that turn the
// direction of writing become a replacement mark.
func Visible(s string) string {
	clean := true
	for i := 0; i < len(s); i++ {
		if s[i] < 0x20 || s[i] >= 0x7f {
			clean = false
			break
		}
	}
	if clean {
		return s
	}
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\t':
			return ' '
		case r < 0x20:
			return 0x2400 + r
		case r == 0x7f:
			return '␡'
		case r >= 0x80 && r < 0xa0, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069,
			r == 0x200e, r == 0x200f, r == 0x061c, r == 0x2028, r == 0x2029, r == 0xfeff:
			return '\uFFFD'
		}
		return r
	}, strings.ToValidUTF8(s, "\uFFFD"))
}
