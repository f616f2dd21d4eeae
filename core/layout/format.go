package layout

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// An open format divides an entry by its published grammar instead of by patterns.
// Its fields are those of lang.Settings.Layout(NAME).Fields(), and what else the
// entry names. It answers with Fits false where the entry is not of the format.
type format func(d *Divider, line []byte, near entry.Instant) Division

var formats = map[string]format{"syslog": (*Divider).syslog, "journal": (*Divider).journal,
	"event-xml": (*Divider).event,
	"json":      (*Divider).json, "logfmt": (*Divider).logfmt, "clf": (*Divider).clf, "combined": (*Divider).combined,
	"w3c": (*Divider).w3c}

// Escapes tells whether an entry of the layout may hold a text in another form than
// its fields do, so that only letters, digits and plain marks of it can be searched
// for.
func (l *Layout) Escapes() bool { return l.format != nil || l.columns != nil }

// Plainly is the longest stretch of a text that stands in an entry of every format
// as it stands in its field.
func Plainly(text string) string {
	best, from := "", 0
	for i := 0; i <= len(text); i++ {
		if i < len(text) && plainly[text[i]] {
			continue
		}
		if i-from > len(best) {
			best = text[from:i]
		}
		from = i + 1
	}
	return best
}

var plainly = func() (set [256]bool) {
	for c := 'a'; c <= 'z'; c++ {
		set[c], set[c-'a'+'A'] = true, true
	}
	for c := '0'; c <= '9'; c++ {
		set[c] = true
	}
	for _, c := range " _-.:;,+=()*#%@!?$~{}|^" {
		set[c] = true
	}
	return set
}()

// severities are the names of severities, by their numbers in RFC 5424, section
// 6.2.1; facilities those of facilities.
var (
	severities = [8]string{"emergency", "alert", "critical", "error", "warning", "notice", "info", "debug"}
	facilities = [24]string{"kern", "user", "mail", "daemon", "auth", "syslog", "lpr", "news", "uucp", "cron",
		"authpriv", "ftp",
		"ntp", "audit", "alert", "clock", "local0", "local1", "local2", "local3", "local4", "local5", "local6",
		"local7"}
)

// fields collects the fields of an entry, and keeps their names apart.
type fields []entry.Field

// add adds a field, unless its value is empty.
func (f *fields) add(name, value string) {
	if value != "" {
		*f = append(*f, entry.Field{Name: name, Value: value})
	}
}

func (f fields) get(name string) string {
	v, _ := f.look(name)
	return v
}

// look is a field's value, and whether there is one.
func (f fields) look(name string) (string, bool) {
	for i := range f {
		if f[i].Name == name {
			return f[i].Value, f[i].Value != ""
		}
	}
	return "", false
}

// put sets a field, whether it was there or not.
func (f *fields) put(name, value string) {
	for i := range *f {
		if (*f)[i].Name == name {
			(*f)[i].Value = value
			return
		}
	}
	f.add(name, value)
}

// extra adds a field of a name that the entry itself gives: as a rule can write it,
// and with prefix where that name is taken.
func (f *fields) extra(name, prefix, value string) {
	name = Name(name)
	if name == "" || f.get(name) != "" {
		name = Name(prefix + name)
	}
	if f.get(name) == "" {
		f.add(name, value)
	}
}

// Name makes a field's name of one that an entry gives. A name that ours can be stays
// as it is; any other is written in small letters, with - for what a name cannot hold:
// cs(User-Agent) is cs-user-agent. A word of the language gets field- in front.
func Name(s string) string {
	if named(s) {
		if lang.Reserved(s) {
			return "field-" + s
		}
		return s
	}
	var b strings.Builder
	gap := false
	for _, r := range strings.ToLower(s) {
		if r == utf8.RuneError || !nameRune(r) {
			gap = b.Len() > 0
			continue
		}
		if gap {
			b.WriteByte('-')
			gap = false
		}
		b.WriteRune(r)
	}
	s = strings.Trim(b.String(), "-_.")
	if s != "" && !unicode.IsLetter([]rune(s)[0]) {
		s = "n" + s
	}
	if lang.Reserved(s) {
		return "field-" + s
	}
	return s
}

// named tells whether a text is a name as rules write them.
func named(s string) bool {
	for i, r := range s {
		if i == 0 && !unicode.IsLetter(r) || r == utf8.RuneError || !nameRune(r) {
			return false
		}
	}
	return s != ""
}

func nameRune(r rune) bool {
	return unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsMark(r) || r == '-' || r == '_' || r == '.'
}
