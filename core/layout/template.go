package layout

import "strings"

// The marks of what changes in a template: bytes that stand in no text.
const (
	markNumber byte = iota + 1
	markTime
	markID
	markName
	markAddress
	markText
	markRest
)

var markWords = map[byte]string{markNumber: "<number>", markTime: "<time>", markID: "<id>", markName: "<name>",
	markAddress: "<address>", markText: "<text>", markRest: "…"}

// ShapeOf is the shape of one line on its own, as Shape.Text writes it.
func ShapeOf(line string) string { return shapeText(string(shapeOf(nil, []byte(line)))) }

func shapeText(t string) string {
	var b strings.Builder
	for i := range len(t) {
		if w := markWords[t[i]]; w != "" {
			b.WriteString(w)
		} else {
			b.WriteByte(t[i])
		}
	}
	return b.String()
}

var wordByte = func() (set [256]bool) {
	for c := range 256 {
		set[c] = letter(byte(c)) && c < 0x80 || c == '_' || c >= 0x80
	}
	return set
}()

func hexByte(c byte) bool { return c-'0' <= 9 || c|0x20 >= 'a' && c|0x20 <= 'f' }

// shapeOf writes the template of a line: the line with marks for what changes.
func shapeOf(out, line []byte) []byte {
	cut := len(line) > shapeBytes
	if cut {
		line = line[:shapeBytes]
	}
	for i := 0; i < len(line); {
		c := line[i]
		switch {
		case c-'0' <= 9, wordByte[c]:
			out, i = shapeWord(out, line, i)
		case (c == '-' || c == '+') && i+1 < len(line) && line[i+1]-'0' <= 9 &&
			(i == 0 || !wordByte[line[i-1]] && line[i-1]-'0' > 9 && line[i-1] != ']' && line[i-1] != ')'):
			i++ // a sign belongs to its number
		case c == ':' && i+2 < len(line) && line[i+1] == ':' && hexByte(line[i+2]):
			if end := addressEnd(line, i); end > 0 {
				out, i = append(out, markAddress), end
				continue
			}
			out = append(out, c)
			i++
		case c == '"':
			end := i + 1
			for end < len(line) && line[end] != '"' {
				if line[end] == '\\' {
					end++
				}
				end++
			}
			if end >= len(line) || end+1 < len(line) && line[end+1] == ':' { // a key of JSON stays
				out = append(out, c)
				i++
				if end < len(line) {
					out = append(out, line[i:end+1]...)
					i = end + 1
				}
				continue
			}
			out = append(append(out, '"'), markText, '"')
			i = end + 1
		case c == '\'' || c == '`':
			end := quotedEnd(line, i)
			if end == 0 {
				out = append(out, c)
				i++
				continue
			}
			out = append(append(out, c), markText, c)
			i = end
		case c == ' ' || c == '\t':
			for i < len(line) && (line[i] == ' ' || line[i] == '\t') {
				i++
			}
			out = append(out, ' ')
		case c < ' ':
			out = append(out, '?')
			i++
		default:
			out = append(out, c)
			i++
		}
	}
	if cut {
		out = append(out, markRest)
	}
	return out
}

// longestQuote is how long a text between single quotes may be.
const longestQuote = 200

// quotedEnd is the place behind a text between single quotes or backquotes that begins at a
// place; 0 where none does, as with an apostrophe.
func quotedEnd(line []byte, i int) int {
	if i > 0 && (wordByte[line[i-1]] || line[i-1]-'0' <= 9) {
		return 0
	}
	for end := i + 1; end < len(line) && end < i+longestQuote; end++ {
		if line[end] != line[i] && !(line[i] == '`' && line[end] == '\'') {
			continue
		}
		if end > i+1 && (end+1 == len(line) || !wordByte[line[end+1]] && line[end+1]-'0' > 9) {
			return end + 1
		}
	}
	return 0
}

// encodedEnd is the place behind a run of base64 (RFC 4648), or of the like, that begins at a
// place; 0 where none does. Such runs are long, and change between small letters, capitals and
// digits all the time.
func encodedEnd(line []byte, i int) int {
	class := func(c byte) int {
		switch {
		case c >= 'a' && c <= 'z':
			return 1
		case c >= 'A' && c <= 'Z':
			return 2
		case c-'0' <= 9:
			return 3
		}
		return 0
	}
	end, changes, last := i, 0, 0
	var seen [4]bool
	for ; end < len(line); end++ {
		c := line[end]
		k := class(c)
		if k == 0 && c != '+' && c != '/' && c != '-' && c != '_' {
			break
		}
		if k > 0 && k != last {
			changes++
			last = k
		}
		seen[k] = true
	}
	for end < len(line) && line[end] == '=' {
		end++
	}
	if n := end - i; n < 16 || !seen[1] || !seen[2] || !seen[3] && line[end-1] != '=' || 3*changes < n {
		return 0
	}
	return end
}

// shapeWord writes what begins with a letter or a digit.
func shapeWord(out, line []byte, i int) ([]byte, int) {
	if len(line)-i >= 16 {
		if end := encodedEnd(line, i); end > 0 {
			return append(out, markID), end
		}
	}
	if line[i] == '0' && i+2 < len(line) && line[i+1]|0x20 == 'x' && hexByte(line[i+2]) {
		end := i + 2
		for end < len(line) && hexByte(line[end]) {
			end++
		}
		if end == len(line) || !wordByte[line[end]] {
			return append(out, markID), end
		}
	}
	if line[i]-'0' > 9 { // words without digits are most
		end := i
		for end < len(line) && wordByte[line[end]] {
			end++
		}
		if end == len(line) || line[end]-'0' > 9 && (line[end] != '-' && line[end] != ':' || !hexByte(line[i])) {
			if end-i == 3 && end+1 < len(line) && line[end] == ' ' && (line[end+1]-'0' <= 9 || line[end+1] == ' ') {
				if k, _ := nameIn(monthNames, string(line[i:end])); k >= 0 { // Nov 24
					return append(out, markTime), end
				}
			}
			return append(out, line[i:end]...), end
		}
	}
	end, digit, other, hex := i, 0, 0, true
	for end < len(line) && (line[end]-'0' <= 9 || wordByte[line[end]]) {
		if c := line[end]; c-'0' <= 9 {
			digit++
		} else {
			other++
			hex = hex && hexByte(c)
		}
		end++
	}
	switch {
	case hex && end-i == 8 && end+28 <= len(line) && line[end] == '-' && uuid(line[i:end+28]):
		return append(out, markID), end + 28
	case hex && end < len(line) && line[end] == ':' && end-i <= 4:
		if stop := addressEnd(line, i); stop > 0 {
			return append(out, markAddress), stop
		}
	}
	switch {
	case digit > 0 && other > 0 && (hex && end-i >= 6 || end-i >= 14 && digit >= 3 && line[i]-'0' <= 9 ||
		end-i >= 20 && digit >= 4):
		return append(out, markID), end
	case other == 0:
		return shapeNumber(out, line, i)
	}
	for i < end { // digits in a word are a number, letters stay
		if line[i]-'0' <= 9 {
			if other > 0 && line[i:end][0]-'0' <= 9 {
				n := i
				for n < end && line[n]-'0' <= 9 {
					n++
				}
				if n == end || line[n] == 'T' && n+1 < end { // a time goes on behind T
					return shapeNumber(out, line, i)
				}
				out, i = append(out, markNumber), n
				continue
			}
		}
		out = append(out, line[i])
		i++
	}
	return out, end
}

// shapeNumber writes numbers that are joined by marks as one: 4.5, 10.0.0.1, a date, a
// time of day.
func shapeNumber(out, line []byte, i int) ([]byte, int) {
	dots, colons, dashes := 0, 0, 0
	for {
		for i < len(line) && line[i]-'0' <= 9 {
			i++
		}
		if i+1 >= len(line) || line[i+1]-'0' > 9 {
			break
		}
		switch line[i] {
		case '.':
			dots++
		case ':':
			colons++
		case '-', '/':
			dashes++
		case ',':
		case 'T':
			if dashes < 2 && colons == 0 {
				goto end
			}
		default:
			goto end
		}
		i++
	}
end:
	switch {
	case dots == 3 && dashes == 0:
		return append(out, markAddress), i
	case colons > 0 || dashes > 1:
		if i < len(line) && line[i] == 'Z' {
			i++
		} else if i+3 < len(line) && (line[i] == '+' || line[i] == '-') && line[i+1]-'0' <= 9 && line[i+2]-'0' <= 9 {
			for i++; i < len(line) && (line[i]-'0' <= 9 || line[i] == ':'); i++ {
			}
		}
		// A date and a time of day are one.
		if n := len(out); n > 1 && out[n-1] == ' ' && out[n-2] == markTime {
			return out[:n-1], i
		}
		return append(out, markTime), i
	}
	if n := len(out); n > 1 && out[n-1] == ' ' && out[n-2] == markTime && dots == 0 { // the day behind a month
		return out[:n-1], i
	}
	return append(out, markNumber), i
}

// uuid tells whether 36 bytes are one.
func uuid(b []byte) bool {
	for i, c := range b {
		if i == 8 || i == 13 || i == 18 || i == 23 {
			if c != '-' {
				return false
			}
		} else if !hexByte(c) {
			return false
		}
	}
	return true
}

// addressEnd is where an IPv6 or a MAC address ends that begins at a place; 0 where
// none does.
func addressEnd(line []byte, i int) int {
	end, colons, double := i, 0, false
	for end < len(line) && (hexByte(line[end]) || line[end] == ':') {
		if line[end] == ':' {
			colons++
			double = double || end > i && line[end-1] == ':'
		}
		end++
	}
	if line[end-1] == ':' && !double {
		end--
		colons--
	}
	if end < len(line) && wordByte[line[end]] || !(double && colons < 8 || colons == 7 || colons == 5 &&
		end-i == 17) {
		return 0
	}
	return end
}
