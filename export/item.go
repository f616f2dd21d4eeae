package export

import (
	"encoding/json"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/leodido/go-syslog/v4/rfc5424"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// item is an entry on its way out.
type item struct {
	id     string // the same for each time that it is handed over
	entry  *entry.Entry
	fields []entry.Field // those of its layout, and what the delivery captured
}

// get is the value of a field.
func (x *item) get(name string) string {
	for i := range x.fields {
		if x.fields[i].Name == name {
			return x.fields[i].Value
		}
	}
	v, _ := x.entry.Get(name)
	return v
}

// text is what the layout gives as text, else the whole entry.
func (x *item) text() string {
	if s := x.get("text"); s != "" {
		return s
	}
	return x.entry.Raw
}

// size is about how many bytes it takes.
func (x *item) size() int64 { return int64(len(x.entry.Raw)) + 256 }

// written is when the entry was, as times are written; "" where it has none.
func written(at entry.Instant) string {
	if at == entry.None {
		return ""
	}
	return at.String()
}

// object is the entry as JSON, as `dimlantern fields --json` gives it, with its identifier.
func (x *item) object() []byte {
	e := x.entry
	b := []byte{'{'}
	add := func(name, value string) {
		if value == "" {
			return
		}
		if len(b) > 1 {
			b = append(b, ',')
		}
		b = append(appendJSON(b, name), ':')
		b = appendJSON(b, value)
	}
	add("at", written(e.At))
	add("host", x.get("host"))
	add("source", e.Source)
	add("origin", e.Origin)
	b = append(b, `,"place":`...)
	b = strconv.AppendInt(b, e.Offset, 10)
	add("id", x.id)
	if len(x.fields) > 0 {
		b = append(b, `,"fields":{`...)
		first, seen := true, map[string]bool{}
		for _, f := range x.fields {
			if f.Value == "" || seen[f.Name] {
				continue
			}
			if seen[f.Name] = true; !first {
				b = append(b, ',')
			}
			first = false
			b = append(appendJSON(b, f.Name), ':')
			b = appendJSON(b, f.Value)
		}
		b = append(b, '}')
	}
	add("text", e.Raw)
	return append(b, '}')
}

// appendJSON appends a text as JSON; what is no UTF-8 is marked.
func appendJSON(b []byte, s string) []byte {
	plain := true
	for i := 0; i < len(s) && plain; i++ {
		plain = s[i] >= ' ' && s[i] < utf8.RuneSelf && s[i] != '"' && s[i] != '\\'
	}
	if plain {
		return append(append(append(b, '"'), s...), '"')
	}
	j, _ := json.Marshal(strings.ToValidUTF8(s, "\uFFFD"))
	return append(b, j...)
}

// csvHead are the columns of CSV; all fields besides stand in the last one as JSON.
var csvHead = []string{"at", "host", "source", "origin", "place", "id", "level", "text", "fields"}

// cells are those of the entry's row.
func (x *item) cells() []string {
	fields := map[string]string{}
	for _, f := range x.fields {
		if f.Value != "" {
			fields[f.Name] = f.Value
		}
	}
	more, _ := json.Marshal(fields)
	out := []string{written(x.entry.At), x.get("host"), x.entry.Source, x.entry.Origin,
		strconv.FormatInt(x.entry.Offset, 10), x.id, x.get("level"), x.entry.Raw, string(more)}
	for i := range out {
		out[i] = Cell(strings.ToValidUTF8(out[i], "\uFFFD"))
	}
	return out
}

// Cell is a cell of CSV that no program takes for a formula: one that begins like it gets a ' in front,
// unless it is a number or a
// duration.
func Cell(s string) string {
	if s == "" || !strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return s
	}
	n := strings.TrimSpace(strings.TrimSuffix(strings.TrimLeft(s, "+-"), "%"))
	if _, ok := entry.ParseNumber(n); ok && len(s)-len(strings.TrimLeft(s, "+-")) == 1 {
		return s
	}
	if _, err := entry.ParseDuration(n); err == nil {
		return s
	}
	return "'" + s
}

// structured names the elements of structured data; 32473 is the number for documents and examples
// (RFC 5612), since Dim Lantern has none of its own.
const (
	structuredEntry  = "entry@32473"
	structuredFields = "fields@32473"
)

// facilities are those of RFC 5424, section 6.2.1, by their usual words.
var facilities = map[string]uint8{"kern": 0, "user": 1, "mail": 2, "daemon": 3, "auth": 4, "syslog": 5, "lpr": 6,
	"news": 7, "uucp": 8, "cron": 9, "authpriv": 10, "ftp": 11, "local0": 16, "local1": 17, "local2": 18, "local3": 19,
	"local4": 20, "local5": 21, "local6": 22, "local7": 23}

// syslogLine is the entry as a message of RFC 5424: its fields are structured data, its text the message.
func (x *item) syslogLine() []byte {
	facility, ok := facilities[x.get("facility")]
	if n, err := strconv.Atoi(x.get("facility")); err == nil && n >= 0 && n <= 23 {
		facility, ok = uint8(n), true
	}
	if !ok {
		facility = 1
	}
	severity := uint8(6) // info, where it has no level
	if l := entry.LevelWritten(x.get("level")); l > 0 {
		severity = uint8(8 - l)
	}
	s := &rfc5424.SyslogMessage{}
	s.SetPriority(facility*8 + severity)
	s.SetVersion(1)
	if x.entry.At != entry.None {
		s.SetTimestamp(x.entry.At.Time().UTC().Format("2006-01-02T15:04:05.000000Z"))
	}
	set := func(do func(string) rfc5424.Builder, value string, most int) {
		if v := visible(value, most); v != "" {
			do(v)
		}
	}
	set(s.SetHostname, x.get("host"), 255)
	program := x.get("program")
	if program == "" {
		program = x.entry.Source
	}
	set(s.SetAppname, program, 48)
	set(s.SetProcID, x.get("pid"), 128)
	set(s.SetMsgID, x.get("msgid"), 32)
	s.SetParameter(structuredEntry, "id", x.id)
	s.SetParameter(structuredEntry, "source", param(x.entry.Source))
	s.SetParameter(structuredEntry, "origin", param(x.entry.Origin))
	s.SetParameter(structuredEntry, "place", strconv.FormatInt(x.entry.Offset, 10))
	for _, f := range x.fields {
		switch f.Name {
		case "at", "host", "program", "pid", "msgid", "level", "facility", "text":
			continue // they stand elsewhere
		}
		if name := visible(f.Name, 32); name != "" && f.Value != "" {
			s.SetParameter(structuredFields, paramName.Replace(name), param(f.Value))
		}
	}
	s.SetMessage("\ufeff" + strings.ToValidUTF8(x.text(), "\uFFFD"))
	line, err := s.String()
	if err != nil { // it has all that it must
		line = "<14>1 - - - - - - " + strings.ToValidUTF8(x.text(), "\uFFFD")
	}
	return []byte(line)
}

// paramName takes out of a name what may not stand in it (RFC 5424, section 6.3.3).
var paramName = strings.NewReplacer("=", "-", "]", "-", `"`, "-")

var escapeParam = strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`)

// param is a value of structured data (RFC 5424, section 6.3.3).
func param(s string) string { return escapeParam.Replace(strings.ToValidUTF8(s, "\uFFFD")) }

// visible is a text with visible ASCII alone, no longer than most.
func visible(s string, most int) string {
	s = strings.Map(func(r rune) rune {
		if r <= ' ' || r > '~' {
			return '-'
		}
		return r
	}, s)
	return s[:min(len(s), most)]
}

// mostPart is how long what a field gives to a path or a subject may be, in bytes.
const mostPart = 100

// part is the value of a field as a part of a path: it names nothing but what lies there.
func part(s string) string {
	s = strings.Map(func(r rune) rune {
		if r == '/' || r == '\\' || r == ':' || r == utf8.RuneError || unicode.IsControl(r) || !unicode.IsPrint(r) {
			return '_'
		}
		return r
	}, s)
	for len(s) > mostPart {
		_, n := utf8.DecodeLastRuneInString(s)
		s = s[:len(s)-n]
	}
	s = strings.Trim(s, " ")
	if i := len(s) - len(strings.TrimLeft(s, ".")); i > 0 {
		s = strings.Repeat("_", i) + s[i:]
	}
	if s == "" {
		return "none"
	}
	return s
}

// token is the value of a field as a part of a subject.
func token(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '.' || r == '*' || r == '>' || unicode.IsSpace(r) {
			return '_'
		}
		return r
	}, part(s))
}

// filled is a template with the values of an entry, each cleaned.
func (x *item) filled(template []lang.Part, clean func(string) string, arrival bool, zone *time.Location) string {
	var b strings.Builder
	for _, p := range template {
		if p.Field == "" {
			b.WriteString(p.Text)
			continue
		}
		at := x.entry.At
		if arrival || at == entry.None {
			at = x.entry.Arrived
		}
		switch p.Field {
		case "date":
			b.WriteString(at.Time().In(zone).Format(time.DateOnly))
		case "hour":
			b.WriteString(at.Time().In(zone).Format("15"))
		default:
			b.WriteString(clean(x.get(p.Field)))
		}
	}
	return b.String()
}
