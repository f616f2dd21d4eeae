package match

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"net/netip"
	"slices"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
)

// A kept entry is one line: when it arrived, from whom, and the entry, in which a
// line end is written as a vertical tab:
//
//	2026-11-24T05:33:10.114208Z 192.0.2.7:514 <13>1 2026-11-24T05:33:10Z lock-3 …

// keptTime is how the arrival of a kept entry is written, always in 27 bytes.
const keptTime = "2006-01-02T15:04:05.000000Z"

// AppendKept appends an entry to b as it is kept, without a line end. A peer that is
// empty or has a space in it is written -.
func AppendKept(b []byte, arrived entry.Instant, peer string, text []byte) []byte {
	if peer == "" || strings.ContainsAny(peer, " \n\v") {
		peer = "-"
	}
	b = arrived.Time().AppendFormat(b, keptTime)
	b = append(append(append(b, ' '), peer...), ' ')
	at := len(b)
	b = append(b, text[:min(len(text), MaxLine)]...)
	for i := at; i < len(b); i++ {
		if b[i] == '\n' {
			b[i] = '\v'
		}
	}
	return b
}

// CutKept cuts a kept entry into its arrival, its peer and its text, whose line ends
// are as they are kept. It answers false where the line is none.
func CutKept(line []byte) (arrived entry.Instant, peer, text []byte, ok bool) {
	n := len(keptTime)
	if len(line) < n+3 || line[n] != ' ' || line[n-1] != 'Z' || line[10] != 'T' {
		return 0, nil, nil, false
	}
	at, err := time.Parse(keptTime, string(line[:n]))
	if err != nil {
		return 0, nil, nil, false
	}
	end := bytes.IndexByte(line[n+1:], ' ')
	if end < 1 {
		return 0, nil, nil, false
	}
	return entry.Of(at), line[n+1 : n+1+end], line[n+2+end:], true
}

// Unkept is the text of a kept entry as it came. Of one of which something is masked
// it is what was sealed with it, or, without the key, what is masked.
func (p *Plan) Unkept(text []byte) []byte {
	if len(text) > 0 && text[0] == seal {
		i := bytes.LastIndexByte(text, seal)
		if whole, ok := unseal(p.secret, text[i+1:]); ok {
			return whole
		}
		text = text[1:max(i, 1)]
	}
	if bytes.IndexByte(text, '\v') < 0 {
		return text
	}
	return bytes.ReplaceAll(text, []byte{'\v'}, newline)
}

// Unkept is the text of a kept entry as anyone may see it.
func Unkept(text []byte) []byte { return (&Plan{}).Unkept(text) }

// Seal encrypts what holds masked values and has to be kept; Unseal is its inverse,
// and answers false where it was sealed with another key.
func (p *Plan) Seal(b []byte) []byte { return sealed(p.secret, b) }

// Unseal is the inverse of Seal.
func (p *Plan) Unseal(b []byte) ([]byte, bool) { return unseal(p.secret, b) }

// Conceal is an entry as it may be kept: what nobody is to be shown is masked, and the
// entry as it came is sealed behind it, so that rules can see it.
func (p *Plan) Conceal(d *layout.Divider, near entry.Instant, text []byte) []byte {
	if !p.Layout.Masked() {
		return Keepable(text)
	}
	x := d.Divide(text, near)
	masked := x.Hide(strings.ToValidUTF8(string(text), "\uFFFD"))
	if masked == string(text) {
		return Keepable(text)
	}
	return append(append(append([]byte{seal}, masked...), seal), sealed(p.secret, text)...)
}

// Keepable is an entry of which nothing is masked as it may be kept.
func Keepable(text []byte) []byte {
	if len(text) == 0 || text[0] != seal {
		return text
	}
	return append(append([]byte{seal}, text...), seal)
}

// seal stands before what is masked, and between it and what is sealed, which may be
// nothing: the control character "record separator".
const seal = 0x1e

// Sealed encrypts bytes that nobody is to be shown with the key of a data folder.
func Sealed(secret, b []byte) []byte { return sealed(secret, b) }

// Unsealed is what Sealed was given; false where it was sealed with another key.
func Unsealed(secret, b []byte) ([]byte, bool) { return unseal(secret, b) }

// sealed encrypts a text with AES-GCM; the nonce comes of the text itself, so that
// two texts never share one.
func sealed(secret, text []byte) []byte {
	if len(secret) == 0 {
		return nil
	}
	h := hmac.New(sha256.New, secret)
	h.Write(text)
	nonce := h.Sum(nil)[:12]
	return base64.RawStdEncoding.AppendEncode(nil, cipherOf(secret).Seal(nonce, nonce, text, nil))
}

func unseal(secret, b []byte) ([]byte, bool) {
	raw, err := base64.RawStdEncoding.AppendDecode(nil, b)
	if err != nil || len(raw) < 12 || len(secret) == 0 {
		return nil, false
	}
	out, err := cipherOf(secret).Open(nil, raw[:12], raw[12:], nil)
	return out, err == nil
}

func cipherOf(secret []byte) cipher.AEAD {
	key := sha256.Sum256(append([]byte("sealed entries "), secret...))
	block, _ := aes.NewCipher(key[:]) // a key of 32 bytes never fails
	aead, _ := cipher.NewGCM(block)
	return aead
}

// Shown divides an entry like Divide, for those who are to see it: its fields and its
// text are masked.
func (p *Plan) Shown(d *layout.Divider, line []byte, near entry.Instant) (layout.Division, string) {
	x, text := p.Divide(d, line, near)
	s := strings.ToValidUTF8(string(text), "\uFFFD")
	if !x.Hides() {
		return x, s
	}
	s = x.Hide(s)
	x.Fields = x.HideFields()
	for i := range x.Misfits {
		x.Misfits[i].Value = x.Hide(x.Misfits[i].Value)
	}
	return x, s
}

// Divide divides an entry as it stands in a log of the source, and says what its
// text is without what was kept with it. An entry whose layout gives no time has
// that of its arrival, where that was kept.
func (p *Plan) Divide(d *layout.Divider, line []byte, near entry.Instant) (x layout.Division, text []byte) {
	text = p.DivideInto(&x, d, line, near)
	return x, text
}

// Bare is an entry as it stands in a log of the source, without what was kept with it.
func (p *Plan) Bare(line []byte) []byte {
	if p.kept {
		if _, _, text, ok := CutKept(line); ok {
			return p.Unkept(text)
		}
	}
	return line
}

// DivideInto is Divide with a place for what comes out.
func (p *Plan) DivideInto(x *layout.Division, d *layout.Divider, line []byte, near entry.Instant) []byte {
	arrived := entry.None
	if p.kept {
		if at, _, text, ok := CutKept(line); ok {
			arrived, line = at, p.Unkept(text)
		}
	}
	d.DivideInto(x, line, near)
	if !x.Timed && arrived != entry.None {
		x.At, x.Timed = arrived, true
	}
	return line
}

// Wants tells whether an entry is one of those that the source takes at all, by its
// `only`.
func (p *Plan) Wants(d *layout.Divider, arrived entry.Instant, host string, text []byte) bool {
	if p.only == nil {
		return true
	}
	e := &entry.Entry{Source: p.Source, Host: host, At: arrived, Arrived: arrived,
		Raw: strings.ToValidUTF8(string(text), "\uFFFD")}
	x := d.Divide(text, arrived)
	e.Fits, e.Fields = x.Fits, x.Fields
	if x.Timed {
		e.At = x.At
	}
	return Eval(p.only, &Subject{Entry: e})
}

// Many is the host and the way of a log that many senders share: the host of its entries
// is their sender's address, where their layout gives none.
const Many = "many"

// hostOfPeer is the address of a peer that may have a port.
func hostOfPeer(peer []byte) string {
	if at, err := netip.ParseAddrPort(string(peer)); err == nil {
		return at.Addr().String()
	}
	return string(peer)
}

// KeptFolder is how the folder is called in which the entries of a host are kept
// that came by a way, such as a peer's address or a channel's name.
func KeptFolder(host, way string) string { return escapeName(host) + "@" + escapeName(way) }

// KeptIn is the host and the way of a log of kept entries, by its path; false where
// it is none.
func KeptIn(path string) (host, way string, ok bool) {
	dir := path[:max(strings.LastIndexByte(path, '/'), 0)]
	host, way, ok = strings.Cut(dir[strings.LastIndexByte(dir, '/')+1:], "@")
	host, ok1 := unescapeName(host)
	way, ok2 := unescapeName(way)
	return host, way, ok && ok1 && ok2
}

const hexDigits = "0123456789ABCDEF"

// escapeName writes all but letters, digits, - and _, and . behind one of them, as %
// and two digits.
func escapeName(s string) string {
	var b strings.Builder
	for i := range len(s) {
		switch c := s[i]; {
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9', c == '-', c == '_', c == '.' && i > 0:
			b.WriteByte(c)
		default:
			b.Write([]byte{'%', hexDigits[c>>4], hexDigits[c&15]})
		}
	}
	return b.String()
}

func unescapeName(s string) (string, bool) {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '%' {
			b.WriteByte(s[i])
			continue
		}
		if i+2 >= len(s) {
			return "", false
		}
		hi, lo := strings.IndexByte(hexDigits, s[i+1]), strings.IndexByte(hexDigits, s[i+2])
		if hi < 0 || lo < 0 {
			return "", false
		}
		b.WriteByte(byte(hi<<4 | lo))
		i += 2
	}
	return b.String(), true
}

// Given are the fields of an entry with those that its source gives it: of two of one name the
// source's counts. It may change fields in place.
func Given(fields, source []entry.Field) []entry.Field {
	for _, f := range source {
		if i := slices.IndexFunc(fields, func(x entry.Field) bool { return x.Name == f.Name }); i >= 0 {
			fields[i].Value = f.Value
		} else {
			fields = append(fields, f)
		}
	}
	return fields
}

// constants are the fields that every entry of a log has, by the log's path and host.
func constants(s *lang.Source, path, host string) []entry.Field {
	var out []entry.Field
	for _, f := range s.Fields {
		v := f.Const
		if f.From != nil {
			v = ""
			from := path
			if f.Host {
				from = host
			}
			if m := f.From.FindStringSubmatch(from); m != nil {
				v = m[f.From.SubexpIndex(f.Name)]
			}
		}
		if v != "" {
			out = append(out, entry.Field{Name: f.Name, Value: v})
		}
	}
	return out
}

// plain cuts literals to what stands in entries of every format as in their fields;
// nil where nothing is left of one.
func plainly(set []lang.Literal) []lang.Literal {
	for i := range set {
		if set[i].Text = layout.Plainly(set[i].Text); len(set[i].Text) < 2 {
			return nil
		}
	}
	return set
}
