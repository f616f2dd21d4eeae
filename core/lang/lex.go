package lang

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// kind is what a token is.
type kind uint8

const (
	end    kind = iota // the end of the file
	name               // a word: source, pump-03, cs-user-agent
	text               // "…" or `…`
	regex              // /…/is or re`…`
	number             // whatever begins with a digit or a sign: 3, 5m, 10:00, 10..19, 10.0.0.0/8
	op                 // == != < <= > >= ~ !~
	punct              // { } ( ) ,
	bad                // what is no token; a diagnostic has been given
)

// token is one word of the language, with the blank space and the comments
// around it, so that printing loses nothing.
type token struct {
	kind  kind
	src   string // as written
	val   string // what it means: the unquoted text, the pattern without its slashes
	flags string // of a regex
	pos   Pos

	newline bool     // it is the first on its line
	blank   bool     // a blank line stands before it (and before its comments)
	lead    []string // comment lines before it; "" is a blank line between them
	trail   string   // the comment behind it on its line
}

func (t token) is(src string) bool { return (t.kind == punct || t.kind == name) && t.src == src }

// ends tells whether a line that ends with this token goes on on the next one.
func (t token) continues() bool {
	return t.is(",") || t.kind == name && (t.src == "and" || t.src == "or" || t.src == "not")
}

// lexer cuts a settings file into tokens.
type lexer struct {
	file  string
	src   string
	off   int
	line  int
	start int // offset of the line's first byte
	// counted is an offset of that line, col its column.
	counted, col int
	// calc is how many parentheses are open of what a question reckons, where a / divides.
	calc  int
	lines []string
	out   []token
	diags []Diagnostic
}

// stateFn is one state of the lexer; it returns the next one.
type stateFn func(*lexer) stateFn

// lex cuts src into tokens; the last one is of kind end. It never fails: what
// is no token becomes one of kind bad, with a diagnostic.
func lex(file string, src []byte) ([]token, []string, []Diagnostic) {
	s := strings.TrimPrefix(string(src), "\ufeff")
	l := &lexer{file: file, src: s, line: 1, col: 1, lines: strings.Split(strings.ReplaceAll(s, "\r\n", "\n"), "\n")}
	for state := stateFn(lexSpace); state != nil; {
		state = state(l)
	}
	return l.out, l.lines, l.diags
}

// pos is the place of an offset in the line that is being read. It counts on from
// where it was asked last, so that long lines cost no more than short ones.
func (l *lexer) pos(off int) Pos {
	if l.counted < l.start || off < l.counted {
		l.counted, l.col = l.start, 1
	}
	l.col += utf8.RuneCountInString(l.src[l.counted:off])
	l.counted = off
	return Pos{File: l.file, Line: l.line, Col: l.col, off: off}
}

func (l *lexer) fail(code string, from int, what, mend string) {
	d := Diagnostic{Code: code, Pos: l.pos(from), Len: max(1, l.off-from), What: what, Mend: mend}
	if n := d.Pos.Line; n <= len(l.lines) {
		d.Line = l.lines[n-1]
	}
	l.diags = append(l.diags, d)
}

// lexSpace passes blank space and comments, notes them down for the token that
// follows, and chooses the state for that token.
func lexSpace(l *lexer) stateFn {
	t := token{newline: len(l.out) == 0}
	newlines := 0
	for l.off < len(l.src) {
		switch c := l.src[l.off]; {
		case c == '\n':
			l.off++
			l.line++
			l.start = l.off
			t.newline = true
			newlines++
			if newlines == 2 {
				if len(t.lead) == 0 {
					t.blank = true
				} else {
					t.lead = append(t.lead, "")
				}
			}
		case c == ' ' || c == '\t' || c == '\r':
			l.off++
		case c == '#':
			from := l.off
			for l.off < len(l.src) && l.src[l.off] != '\n' {
				l.off++
			}
			comment := strings.TrimRightFunc(l.src[from:l.off], unicode.IsSpace)
			if !t.newline && newlines == 0 && len(l.out) > 0 {
				l.out[len(l.out)-1].trail = comment
			} else {
				t.lead = append(t.lead, comment)
			}
			newlines = 0
		default:
			return lexToken(t)
		}
	}
	t.kind, t.pos, t.newline = end, l.pos(l.off), true
	l.out = append(l.out, t)
	return nil
}

// lexToken returns the state that reads the token which begins here into t.
func lexToken(t token) stateFn {
	return func(l *lexer) stateFn {
		t.pos = l.pos(l.off)
		from := l.off
		rest := l.src[l.off:]
		r, size := utf8.DecodeRuneInString(rest)
		if l.calc > 0 && l.calculates(&t, rest) {
			l.out = append(l.out, t)
			return lexSpace
		}
		switch {
		case strings.HasPrefix(rest, "re`"):
			l.off += 3
			t.kind = regex
			t.val = l.until('`', from, "a regular expression that begins with re`")
			t.flags = l.regexFlags()
		case r == '"':
			t.kind = text
			t.val = l.quoted()
		case r == '`':
			l.off++
			t.kind = text
			t.val = l.until('`', from, "a text that begins with `")
		case r == '/':
			t.kind = regex
			t.val = l.slashed()
			t.flags = l.regexFlags()
		case r >= '0' && r <= '9', (r == '+' || r == '-') && len(rest) > 1 && isDigit(rest[1]):
			t.kind = number
			l.off++
			l.numeric()
		case r == ':' && strings.HasPrefix(rest, "::"):
			t.kind = number
			l.numeric()
		case unicode.IsLetter(r):
			t.kind = name
			for l.off < len(l.src) {
				r, size := utf8.DecodeRuneInString(l.src[l.off:])
				if !nameRune(r) {
					break
				}
				l.off += size
			}
			if word := l.src[from:l.off]; l.off < len(l.src) && l.src[l.off] == ':' && len(word) <= 4 && isHex(word) {
				t.kind = number // an IPv6 address
				l.numeric()
			}
		case strings.ContainsRune("{}(),", r):
			t.kind = punct
			l.off++
		case strings.ContainsRune("=!<>~", r):
			t.kind = op
			l.off++
			if two := l.src[from:min(from+2, len(l.src))]; two == "==" || two == "!=" || two == "<=" || two == ">=" ||
				two == "!~" {
				l.off++
			}
			switch got := l.src[from:l.off]; got {
			case "=":
				l.fail("syntax", from, "a single = compares nothing", "write == to compare")
				t.kind = bad
			case "!":
				l.fail("syntax", from, "! stands for nothing by itself", "write not to negate, != or !~ to compare")
				t.kind = bad
			}
		default:
			l.off += size
			t.kind = bad
			mend := "texts are quoted: \"…\", patterns stand between slashes: /…/"
			if r == utf8.RuneError && size == 1 {
				l.fail("not-utf8", from, fmt.Sprintf("the byte %#02x is not UTF-8", rest[0]),
					"save the file as UTF-8")
			} else if r == '\'' || r == '“' || r == '”' || r == '„' {
				if i := strings.IndexAny(rest[size:], "'“”\n"); i >= 0 && rest[size+i] != '\n' {
					_, n := utf8.DecodeRuneInString(rest[size+i:])
					l.off += i + n
				}
				l.fail("syntax", from, fmt.Sprintf("%q does not quote a text", r),
					`write straight double quotes: "…"`)
			} else if r == ';' {
				l.fail("syntax", from, "a clause ends at the end of its line, not with ;",
					"leave the ; out, and begin a new line")
			} else if r == '-' {
				l.fail("syntax", from, "a dash stands alone",
					"a span has no blanks in it: 22:00-06:00, mon-fri; a negative number none behind its sign")
			} else {
				l.fail("syntax", from, fmt.Sprintf("the character %s begins nothing that is known",
					visible(fmt.Sprintf("%q", r))), mend)
			}
		}
		t.src = l.src[from:l.off]
		if t.is("(") && l.beginsCalc() {
			l.calc = 1
		}
		l.out = append(l.out, t)
		return lexSpace
	}
}

// beginsCalc tells whether what was read last is reckon NAME as, behind which a calculation
// stands in parentheses.
func (l *lexer) beginsCalc() bool {
	n := len(l.out)
	return n >= 3 && l.out[n-1].is("as") && l.out[n-2].kind == name && l.out[n-3].is("reckon")
}

// calculates reads a sign, a parenthesis or a number of a calculation; false where something else
// begins there. A - with a blank behind it is a sign; so is one in front of what is no number.
func (l *lexer) calculates(t *token, rest string) bool {
	next := byte(' ')
	if len(rest) > 1 {
		next = rest[1]
	}
	from := l.off
	switch c := rest[0]; {
	case c == '+', c == '*', c == '/', c == '-' && !isDigit(next):
		t.kind = op
		l.off++
	case c == '(', c == ')':
		t.kind = punct
		l.off++
		if l.calc++; c == ')' {
			l.calc -= 2
		}
	case isDigit(c), c == '-':
		t.kind = number
		for l.off++; l.off < len(l.src) && (l.src[l.off] == '.' || l.src[l.off] == '%' || isDigit(l.src[l.off]) ||
			l.src[l.off]|0x20 >= 'a' && l.src[l.off]|0x20 <= 'z'); l.off++ {
			if e := l.src[l.off] | 0x20; e == 'e' && l.off+2 < len(l.src) && (l.src[l.off+1] == '-' ||
				l.src[l.off+1] == '+') && isDigit(l.src[l.off+2]) {
				l.off++
			}
		}
	default:
		if c == '}' || c == '{' { // it was never closed
			l.calc = 0
		}
		return false
	}
	t.src = l.src[from:l.off]
	return true
}

// until reads up to the closing byte, which must come on the same line.
func (l *lexer) until(closing byte, from int, what string) string {
	start := l.off
	for l.off < len(l.src) && l.src[l.off] != '\n' {
		if l.src[l.off] == closing {
			l.off++
			return l.src[start : l.off-1]
		}
		l.off++
	}
	l.trimCR(start)
	l.fail("unclosed", from, what+" does not end on its line", "close it with "+string(closing))
	return l.src[start:l.off]
}

// trimCR steps back over a carriage return at the line's end.
func (l *lexer) trimCR(start int) {
	if l.off > start && l.src[l.off-1] == '\r' {
		l.off--
	}
}

// quoted reads "…" with its escapes.
func (l *lexer) quoted() string {
	from := l.off
	var b strings.Builder
	for l.off++; l.off < len(l.src) && l.src[l.off] != '\n'; l.off++ {
		switch c := l.src[l.off]; c {
		case '"':
			l.off++
			return b.String()
		case '\\':
			at := l.off
			l.off++
			switch {
			case l.off >= len(l.src) || l.src[l.off] == '\n':
				l.off--
				b.WriteByte('\\')
			case l.src[l.off] == 'n':
				b.WriteByte('\n')
			case l.src[l.off] == 't':
				b.WriteByte('\t')
			case l.src[l.off] == '"' || l.src[l.off] == '\\':
				b.WriteByte(l.src[l.off])
			default:
				l.off++
				l.fail("bad-escape", at, fmt.Sprintf(`%s means nothing inside "…"`, visible(l.src[at:l.off])),
					"a text knows \\\", \\\\, \\n and \\t; between ` and ` everything stands as it is")
				l.off--
				b.WriteString(l.src[at : l.off+1])
			}
		default:
			b.WriteByte(c)
		}
	}
	l.trimCR(from + 1)
	l.fail("unclosed", from, "this text does not end on its line",
		`close it with "; a line end inside a text is written \n`)
	return b.String()
}

// slashed reads /…/, where \/ stands for a slash.
func (l *lexer) slashed() string {
	from := l.off
	var b strings.Builder
	for l.off++; l.off < len(l.src) && l.src[l.off] != '\n'; l.off++ {
		switch c := l.src[l.off]; {
		case c == '/':
			l.off++
			return b.String()
		case c == '\\' && l.off+1 < len(l.src) && l.src[l.off+1] == '/':
			l.off++
			b.WriteByte('/')
		case c == '\\' && l.off+1 < len(l.src) && l.src[l.off+1] != '\n':
			b.WriteByte(c)
			l.off++
			b.WriteByte(l.src[l.off])
		default:
			b.WriteByte(c)
		}
	}
	l.trimCR(from + 1)
	l.fail("unclosed", from, "this pattern does not end on its line",
		`close it with /; a slash inside a pattern is written \/`)
	return b.String()
}

func (l *lexer) regexFlags() string {
	from := l.off
	for l.off < len(l.src) && (l.src[l.off] >= 'a' && l.src[l.off] <= 'z' || l.src[l.off] >= 'A' &&
		l.src[l.off] <= 'Z') {
		l.off++
	}
	flags := l.src[from:l.off]
	for i := range len(flags) {
		if flags[i] != 'i' && flags[i] != 's' {
			l.fail("bad-flag", from, fmt.Sprintf("a pattern knows no flag %q", flags[i:i+1]),
				"i is for capitals or not, s lets . match a line end as well")
			return ""
		}
	}
	return flags
}

// numeric reads on in what began with a digit: numbers, durations, times,
// spans, addresses and networks, ranges.
func (l *lexer) numeric() {
	for l.off < len(l.src) {
		c := l.src[l.off]
		switch {
		case isDigit(c), c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c == ':', c == '.', c == '%', c == '_':
		case c == '/' || c == '+' || c == '-':
			// 10.0.0.0/8, 1e-3, 22:00-06:00, 2026-11-24T…+01:00
			if l.off+1 >= len(l.src) || !isDigit(l.src[l.off+1]) {
				if c != '-' || l.src[l.off-1] != '.' {
					return
				}
			}
		default:
			return
		}
		l.off++
	}
}

func nameRune(r rune) bool {
	return unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsMark(r) || r == '-' || r == '_' || r == '.'
}

func isHex(s string) bool {
	for i := range len(s) {
		if c := s[i] | 0x20; !isDigit(s[i]) && (c < 'a' || c > 'f') {
			return false
		}
	}
	return true
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }
