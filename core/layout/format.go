package layout

import (
	"strings"
	"unicode/utf8"

	"dimlantern/core/entry"
)

// An open format divides an entry by its published grammar instead of by patterns.
// Its fields are those of lang.Settings.Layout(NAME).Fields(), and what else the
// entry names. It answers with Fits false where the entry is not of the format.
type format func(d *Divider, line []byte, near entry.Instant) Division

var formats = map[string]format{"syslog": (*Divider).syslog, "journal": (*Divider).journal, "event-xml": (*Divider).event}

// Escapes tells whether an entry of the layout may hold a text in another form than
// its fields do, so that only letters, digits and plain marks of it can be searched
// for.
func (l *Layout) Escapes() bool { return l.format != nil }

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
	facilities = [24]string{"kern", "user", "mail", "daemon", "auth", "syslog", "lpr", "news", "uucp", "cron", "authpriv", "ftp",
		"ntp", "audit", "alert", "clock", "local0", "local1", "local2", "local3", "local4", "local5", "local6", "local7"}
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
	for _, x := range f {
		if x.Name == name {
			return x.Value
		}
	}
	return ""
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

// Name makes a field's name of one that an entry gives: letters, digits, - _ and .
// stay, all else becomes -, and it begins with a letter.
func Name(s string) string {
	s = strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9', r == '-', r == '_', r == '.':
			return r
		case r == utf8.RuneError:
			return -1
		}
		return '-'
	}, s)
	s = strings.TrimLeft(s, "-_.")
	if s != "" && s[0] >= '0' && s[0] <= '9' {
		s = "n" + s
	}
	return s
}
