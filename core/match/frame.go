package match

import (
	"bytes"
	"encoding/binary"
	"regexp"
	"sort"
	"unicode/utf16"
	"unicode/utf8"
)

// Encoding is how the bytes of a file are text.
type Encoding uint8

// The encodings.
const (
	UTF8 Encoding = iota
	UTF16LE
	UTF16BE
	Latin1
)

// EncodingOf is the encoding of a file by the source's word for it ("" is auto)
// and the file's first bytes: a mark at its start, or, with auto, text of which
// every second byte is nothing.
func EncodingOf(word string, head []byte) Encoding {
	switch {
	case word == "latin-1":
		return Latin1
	case word == "utf-8":
		return UTF8
	case bytes.HasPrefix(head, []byte{0xff, 0xfe}):
		return UTF16LE
	case bytes.HasPrefix(head, []byte{0xfe, 0xff}):
		return UTF16BE
	}
	odd, even := 0, 0
	for i, c := range head {
		if c == 0 {
			if i%2 == 0 {
				even++
			} else {
				odd++
			}
		}
	}
	half := len(head) / 2
	switch {
	case word == "utf-16" && even > odd, len(head) >= 8 && even > half*3/4 && odd < half/8:
		return UTF16BE
	case word == "utf-16", len(head) >= 8 && odd > half*3/4 && even < half/8:
		return UTF16LE
	}
	return UTF8
}

// joint stands for a line end inside an entry while a slab is searched. No UTF-8
// text holds it.
const joint = 0xff

// newline16 is the place behind the last line end of UTF-16 text, or 0.
func newline16(raw []byte, enc Encoding) int {
	for i := len(raw) &^ 1; i >= 2; i -= 2 {
		if unit16(raw[i-2:], enc) == '\n' {
			return i
		}
	}
	return 0
}

func unit16(b []byte, enc Encoding) uint16 {
	if enc == UTF16BE {
		return binary.BigEndian.Uint16(b)
	}
	return binary.LittleEndian.Uint16(b)
}

// LineEnd is the place behind the first line end, or 0.
func (p *Plan) LineEnd(raw []byte, enc Encoding) int {
	if enc != UTF16LE && enc != UTF16BE {
		return bytes.IndexByte(raw, '\n') + 1
	}
	for i := 2; i <= len(raw); i += 2 {
		if unit16(raw[i-2:], enc) == '\n' {
			return i
		}
	}
	return 0
}

// Cut returns how many of the bytes are whole entries. With final, nothing more
// belongs to the last one, but an unfinished line is none yet.
func (p *Plan) Cut(raw []byte, enc Encoding, final bool) int {
	end := 0
	if enc == UTF16LE || enc == UTF16BE {
		end = newline16(raw, enc)
	} else {
		end = bytes.LastIndexByte(raw, '\n') + 1
	}
	if p.entry == nil || final || end == 0 {
		return end
	}
	// The last entry may go on: cut where it starts.
	text, marks := decode(raw[:end], enc, nil)
	last, lines := 0, 0
	for at := 0; at < len(text); {
		stop := at + bytes.IndexByte(text[at:], '\n') + 1
		if stop == at {
			break
		}
		if lines++; at == 0 || lines > p.entry.Most ||
			p.entry.Starts.Re().Match(bytes.TrimSuffix(text[at:stop-1], cr)) {
			last, lines = at, 1
		}
		at = stop
	}
	if lines >= p.entry.Most {
		return end // it is as long as it may be
	}
	return int(offsetIn(marks, last))
}

var cr = []byte{'\r'}

// lineMark says where a line of decoded text begins in the file's bytes.
type lineMark struct{ text, raw int }

// offsetIn is the place in the file's bytes of the line that begins at a place of
// the text.
func offsetIn(marks []lineMark, at int) int64 {
	if marks == nil {
		return int64(at)
	}
	i := sort.Search(len(marks), func(i int) bool { return marks[i].text > at }) - 1
	if i < 0 {
		return 0
	}
	return int64(marks[i].raw)
}

// decode makes UTF-8 of a slab of whole lines, into buf where it has to be made.
// The marks are nil where every byte stands for itself.
func decode(raw []byte, enc Encoding, buf []byte) ([]byte, []lineMark) {
	if enc == UTF8 {
		return raw, nil
	}
	out := buf[:0]
	marks := []lineMark{{0, 0}}
	if enc == Latin1 {
		for i, c := range raw {
			out = utf8.AppendRune(out, rune(c))
			if c == '\n' {
				marks = append(marks, lineMark{len(out), i + 1})
			}
		}
		return out, marks
	}
	for i := 0; i+1 < len(raw); {
		r := rune(unit16(raw[i:], enc))
		i += 2
		switch {
		case r == 0xfeff && i == 2: // the mark
			marks[0].raw = 2
			continue
		case utf16.IsSurrogate(r):
			second := rune(0)
			if i+1 < len(raw) {
				second = rune(unit16(raw[i:], enc))
			}
			if r = utf16.DecodeRune(r, second); r != utf8.RuneError {
				i += 2
			}
		}
		out = utf8.AppendRune(out, r)
		if r == '\n' {
			marks = append(marks, lineMark{len(out), i})
		}
	}
	return out, append(marks, lineMark{len(out), len(raw)})
}

var utf8Mark = []byte{0xef, 0xbb, 0xbf}

// framed makes a slab of the file's bytes in which every entry is one line: it is
// decoded, and line ends inside entries are joints. Skipped is how many bytes at
// its start are no text.
func (r *Reader) framed(raw []byte, base int64) (slab []byte, marks []lineMark, skipped int) {
	if r.Encoding == UTF8 && base == 0 && bytes.HasPrefix(raw, utf8Mark) {
		raw, skipped = raw[3:], 3
	}
	slab, marks = decode(raw, r.Encoding, r.text)
	if marks != nil {
		r.text = slab
	}
	if r.Plan.entry == nil {
		return slab, marks, skipped
	}
	if marks == nil {
		r.text = append(r.text[:0], slab...)
		slab = r.text
	}
	join(slab, r.Plan.entry.Starts.Re(), r.Plan.entry.Most)
	return slab, marks, skipped
}

// join puts joints between the lines of each entry.
func join(slab []byte, starts *regexp.Regexp, most int) {
	for i := range slab {
		if slab[i] == joint {
			slab[i] = joint - 1 // neither is any text
		}
	}
	lines := 0
	for at := 0; at < len(slab); {
		stop := bytes.IndexByte(slab[at:], '\n')
		if stop < 0 {
			stop = len(slab) - at
		}
		lines++
		if at > 0 && lines <= most && !starts.Match(bytes.TrimSuffix(slab[at:at+stop], cr)) {
			slab[at-1] = joint
		} else {
			lines = 1
		}
		at += stop + 1
	}
}

// unjoin gives an entry its line ends back.
func unjoin(line []byte) []byte {
	if bytes.IndexByte(line, joint) < 0 {
		return line
	}
	out := bytes.ReplaceAll(line, []byte{'\r', joint}, newline)
	return bytes.ReplaceAll(out, []byte{joint}, newline)
}

// First returns how many bytes the first entry of a slab takes.
func (p *Plan) First(raw []byte, enc Encoding) int {
	for at, lines := 0, 1; ; lines++ {
		n := p.LineEnd(raw[at:], enc)
		if n == 0 {
			return len(raw)
		}
		at += n
		if p.entry == nil || at >= len(raw) || lines >= p.entry.Most {
			return at
		}
		next := raw[at:]
		if k := p.LineEnd(next, enc); k > 0 {
			next = next[:k]
		}
		text, _ := decode(next, enc, nil)
		if p.entry.Starts.Re().Match(bytes.TrimRight(text, "\r\n")) {
			return at
		}
	}
}

// Text makes UTF-8 of bytes that begin at a line.
func (p *Plan) Text(raw []byte, enc Encoding) []byte {
	if enc == UTF8 {
		return bytes.TrimPrefix(raw, utf8Mark)
	}
	text, _ := decode(raw, enc, nil)
	return text
}

// Entries gives the whole entries of UTF-8 text that begins at a line, without their
// line ends. Lines before the start of the first entry belong to one that is not
// there, and are left out. What is given is valid until the next one.
func (p *Plan) Entries(text []byte, each func(entry []byte)) { p.entries(text, false, each) }

// All is Entries of text that begins where an entry does, and ends where one does.
func (p *Plan) All(text []byte, each func(entry []byte)) { p.entries(text, true, each) }

func (p *Plan) entries(text []byte, all bool, each func(entry []byte)) {
	slab := text
	if p.entry != nil || bytes.IndexByte(text, 0) >= 0 {
		r := &Reader{Plan: p}
		slab, _, _ = r.framed(text, 1)
	}
	for first := true; len(slab) > 0; first = false {
		k := bytes.IndexByte(slab, '\n')
		x := slab
		switch {
		case k >= 0:
			x, slab = slab[:k], slab[k+1:]
		case !all:
			return
		default:
			slab = nil
		}
		x = bytes.TrimSuffix(x, cr)
		if p.entry != nil {
			x = unjoin(x)
		}
		if first && !all && p.entry != nil && len(slab) > 0 && !p.entry.Starts.Re().Match(x) {
			continue
		}
		each(x)
	}
}
