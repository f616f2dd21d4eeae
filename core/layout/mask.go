package layout

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base32"
	"encoding/json"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Hidden stands where something is masked.
const Hidden = "***"

// mask is a compiled mask.
type mask struct {
	fields      []string // all the names that the field has had
	pattern     *lang.Pattern
	first, last int
	token       bool
	secret      []byte
}

func compileMasks(l *lang.Layout, secret []byte) []mask {
	var out []mask
	for _, m := range l.Masks {
		x := mask{pattern: m.Pattern, first: m.First, last: m.Last, token: m.Token, secret: secret}
		if m.Field != "" {
			x.fields = []string{m.Field}
			for range l.Steps { // names that were given on
				for _, s := range l.Steps {
					if s.Kind != lang.StepMap {
						continue
					}
					for _, pair := range [][2]string{{s.Field, s.To}, {s.To, s.Field}} {
						if slices.Contains(x.fields, pair[0]) && !slices.Contains(x.fields, pair[1]) {
							x.fields = append(x.fields, pair[1])
						}
					}
				}
			}
		}
		out = append(out, x)
	}
	return out
}

// tokenOf is the stand-in of a value: the same for the same value and secret.
func tokenOf(secret []byte, v string) string { return "token-" + digest(secret, v, 12) }

// digest is a keyed digest of a value in n letters and digits, at most 52.
func digest(secret []byte, v string, n int) string {
	h := hmac.New(sha256.New, secret)
	h.Write([]byte(v))
	return strings.ToLower(base32.StdEncoding.EncodeToString(h.Sum(nil)))[:n]
}

// shown is what is shown instead of a value.
func (m *mask) shown(v string) string {
	if m.token && len(m.secret) > 0 {
		return tokenOf(m.secret, v)
	}
	if n := utf8.RuneCountInString(v); m.first+m.last == 0 || m.token || n <= m.first+m.last {
		return Hidden
	}
	r := []rune(v)
	return string(r[:m.first]) + Hidden + string(r[len(r)-m.last:])
}

// hidden is a value that nobody is to be shown.
type hidden struct {
	value, shown string
	mask         int
}

// Masked tells whether anything of entries is masked.
func (l *Layout) Masked() bool { return len(l.masks) > 0 }

// Unmasked makes the layout mask nothing: what it gives must not be shown.
func (l *Layout) Unmasked() { l.masks = nil }

// hide notes the values of masked fields as they are now.
func (d *Division) hide(masks []mask) {
	for i := range masks {
		for _, f := range d.Fields {
			if f.Value != "" && slices.Contains(masks[i].fields, f.Name) {
				d.note(hidden{f.Value, masks[i].shown(f.Value), i})
			}
		}
	}
}

// settle gives all forms of a masked field's value what is shown for the last one.
func (d *Division) settle(masks []mask) {
	d.hide(masks)
	for i := range masks {
		for _, f := range d.Fields {
			if f.Value == "" || !masks[i].token || !slices.Contains(masks[i].fields, f.Name) {
				continue
			}
			for k := range d.hidden {
				if d.hidden[k].mask == i {
					d.hidden[k].shown = masks[i].shown(f.Value)
				}
			}
		}
	}
}

func (d *Division) note(h hidden) {
	if !slices.ContainsFunc(d.hidden, func(x hidden) bool { return x.value == h.value }) {
		d.hidden = append(d.hidden, h)
	}
}

// Hides tells whether anything of the entry is to be masked.
func (d *Division) Hides() bool { return len(d.masks) > 0 }

// Hide masks in a text of the entry what nobody is to be shown: each value of a
// masked field wherever it stands, and what the patterns fit. It also finds values
// that are written with escapes, as in JSON, XML or CSV.
func (d *Division) Hide(s string) string {
	if len(d.masks) == 0 || s == "" {
		return s
	}
	all := d.hidden
	if len(all) > 1 { // the longest first, so that none is cut by another
		all = slices.Clone(all)
		slices.SortStableFunc(all, func(a, b hidden) int { return len(b.value) - len(a.value) })
	}
	for _, h := range all {
		if s == h.value {
			return h.shown
		}
		for _, form := range forms(h.value) {
			s = replaced(s, form, h.shown)
		}
	}
	for i := range d.masks {
		if m := &d.masks[i]; m.pattern != nil {
			s = covered(s, m.pattern)
		}
	}
	return s
}

// cover notes what the patterns fit in the entry, so that it is masked as well where it
// stands elsewhere: in what a rule made of it.
func (d *Division) cover(masks []mask, line string) {
	for i := range masks {
		p := masks[i].pattern
		if p == nil {
			continue
		}
		for _, m := range p.Re().FindAllStringSubmatch(line, -1) {
			if len(m) > 1 {
				m = m[1:]
			}
			for _, v := range m {
				if len(v) >= short { // what is shorter stands elsewhere by chance
					d.note(hidden{v, Hidden, i})
				}
			}
		}
	}
}

// Taken masks a value that a rule took out of the entry, such as a capture. Text is the
// whole entry. A part of what is masked is masked too: what can be read in the entry, and
// not in what is shown of it, is shown to nobody.
func (d *Division) Taken(v, text string) string {
	if out := d.Hide(v); out != v || v == "" || !d.secretly(v, text) {
		return out
	}
	return Hidden
}

// Key is a value of a key, as Taken shows it, but so that two that differ still do: what
// is masked has a token in its place or behind it. So a rule tells apart what nobody sees.
func (d *Division) Key(v, text string) string {
	out := d.Taken(v, text)
	if out == v || strings.HasPrefix(out, "token-") && d.isWhole(v) {
		return out
	}
	secret := d.masks[0].secret
	switch {
	case len(secret) == 0:
		return out
	case out == Hidden:
		return tokenOf(secret, v)
	}
	return out + "~" + digest(secret, v, 8)
}

// isWhole tells whether a value is that of a masked field.
func (d *Division) isWhole(v string) bool {
	return slices.ContainsFunc(d.hidden, func(h hidden) bool { return h.value == v })
}

// secretly tells whether a value stands in the entry, and nowhere in what is shown of it.
func (d *Division) secretly(v, text string) bool {
	in := strings.Contains(text, v)
	for i := 0; i < len(d.Fields) && !in; i++ {
		in = strings.Contains(d.Fields[i].Value, v)
	}
	if !in || strings.Contains(d.Hide(text), v) {
		return false
	}
	return !slices.ContainsFunc(d.Fields, func(f entry.Field) bool { return strings.Contains(d.Hide(f.Value), v) })
}

// HideFields are the fields, masked.
func (d *Division) HideFields() []entry.Field {
	if len(d.masks) == 0 {
		return d.Fields
	}
	out := slices.Clone(d.Fields)
	for i := range out {
		out[i].Value = d.Hide(out[i].Value)
	}
	return out
}

// forms are the ways in which a value may be written in an entry.
func forms(v string) []string {
	out := []string{v}
	add := func(s string) {
		if !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	if strings.ContainsAny(v, "\"\\/<>&'\t\n]") ||
		strings.IndexFunc(v, func(r rune) bool { return r < 0x20 || r >= utf8.RuneSelf }) >= 0 {
		b, _ := json.Marshal(v)
		add(string(b[1 : len(b)-1]))
		add(strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\t", `\t`).Replace(v))
		add(strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`).Replace(v))
		add(strings.ReplaceAll(v, `"`, `""`))
		add(strings.ReplaceAll(v, "/", `\/`))
		add(strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;").Replace(v))
		add(strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "'", "&apos;").Replace(v))
		add(strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&#34;", "'", "&#39;").Replace(v))
	}
	return out
}

// short is how long a value is that is replaced only where it stands as a word.
const short = 4

func replaced(s, value, shown string) string {
	if !strings.Contains(s, value) {
		return s
	}
	if len(value) >= short {
		return strings.ReplaceAll(s, value, shown)
	}
	var b strings.Builder
	for {
		i := strings.Index(s, value)
		if i < 0 {
			b.WriteString(s)
			return b.String()
		}
		before, _ := utf8.DecodeLastRuneInString(s[:i])
		after, _ := utf8.DecodeRuneInString(s[i+len(value):])
		b.WriteString(s[:i])
		if i > 0 && wordy(before) || i+len(value) < len(s) && wordy(after) {
			b.WriteString(value)
		} else {
			b.WriteString(shown)
		}
		s = s[i+len(value):]
	}
}

func wordy(r rune) bool { return r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r) }

// covered puts Hidden where the groups of a pattern fit, or, where it has none, where
// it fits itself.
func covered(s string, p *lang.Pattern) string {
	all := p.Re().FindAllStringSubmatchIndex(s, -1)
	if all == nil {
		return s
	}
	var b strings.Builder
	at := 0
	for _, m := range all {
		spans := m[:2]
		if len(m) > 2 {
			spans = m[2:]
		}
		for i := 0; i+1 < len(spans); i += 2 {
			if spans[i] < at || spans[i] == spans[i+1] {
				continue
			}
			b.WriteString(s[at:spans[i]])
			b.WriteString(Hidden)
			at = spans[i+1]
		}
	}
	b.WriteString(s[at:])
	return b.String()
}
