package layout

import (
	"bytes"
	"encoding/json"
	"strconv"
	"strings"

	"dimlantern/core/entry"
)

// journalNames are our names for the journal's fields that have one; all others are
// written small, without the _ in front, and with - for _.
var journalNames = map[string]string{
	"MESSAGE": "text", "_HOSTNAME": "host", "SYSLOG_IDENTIFIER": "program", "_PID": "pid", "_SYSTEMD_UNIT": "unit",
	"__CURSOR": "cursor",
}

// journal divides an entry of the system journal: an object of JSON whose members
// are the journal's fields, as texts, or as arrays of texts where a field occurs
// several times.
//
// It also takes an entry of the journal's export format as text: a line NAME=value for
// each field.
func (d *Divider) journal(line []byte, _ entry.Instant) Division {
	e := journalEntry{raw: map[string]string{}}
	switch {
	case len(line) > 0 && line[0] == '{':
		if !e.object(line) {
			return Division{}
		}
	case bytes.HasPrefix(line, []byte("__CURSOR=")):
		for l := range strings.SplitSeq(valid(line), "\n") {
			name, value, ok := strings.Cut(l, "=")
			if l != "" && (!ok || strings.Trim(name, "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_") != "") {
				return Division{}
			}
			e.take(name, value)
		}
	default:
		return Division{}
	}
	f := e.fields
	if f.get("program") == "" {
		f.add("program", e.raw["_COMM"])
	}
	if f.get("unit") == "" {
		f.add("unit", e.raw["_SYSTEMD_USER_UNIT"])
	}
	if f.get("pid") == "" {
		f.add("pid", e.raw["SYSLOG_PID"])
	}
	out := Division{Fits: true}
	for _, s := range []string{e.source, e.real} {
		if us, err := strconv.ParseInt(s, 10, 64); err == nil && us > 0 && us < 1<<53 && !out.Timed {
			out.At, out.Timed = entry.Instant(us*1000), true
			f.add("at", out.At.String())
		}
	}
	out.Fields = append(f, entry.Field{Name: "text", Value: e.text})
	return out
}

// journalEntry collects an entry's fields.
type journalEntry struct {
	fields             fields
	text, real, source string
	raw                map[string]string
}

func (e *journalEntry) object(line []byte) bool {
	dec := json.NewDecoder(bytes.NewReader(line))
	dec.UseNumber() // as it is written
	if t, err := dec.Token(); err != nil || t != json.Delim('{') {
		return false
	}
	for dec.More() {
		name, err := dec.Token()
		if err != nil {
			return false
		}
		var v any
		if err := dec.Decode(&v); err != nil {
			return false
		}
		e.take(name.(string), journalText(v))
	}
	_, err := dec.Token()
	return err == nil
}

func (e *journalEntry) take(key, value string) {
	f := &e.fields
	switch key {
	case "":
	case "__REALTIME_TIMESTAMP":
		e.real = value
	case "_SOURCE_REALTIME_TIMESTAMP":
		e.source = value
	case "MESSAGE":
		e.text = value
	case "PRIORITY":
		if n, err := strconv.Atoi(value); err == nil && n >= 0 && n < len(severities) {
			value = severities[n]
		}
		f.add("level", value)
	case "SYSLOG_FACILITY":
		if n, err := strconv.Atoi(value); err == nil && n >= 0 && n < len(facilities) {
			value = facilities[n]
		}
		f.add("facility", value)
	default:
		e.raw[key] = value
		if ours := journalNames[key]; ours != "" {
			f.add(ours, value)
		} else {
			f.extra(strings.ReplaceAll(strings.ToLower(strings.TrimLeft(key, "_")), "_", "-"), "journal-", value)
		}
	}
}

func journalText(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case json.Number:
		return v.String()
	case []any: // several values, or bytes as numbers
		var parts []string
		var bin []byte
		for _, x := range v {
			number, _ := x.(json.Number)
			if n, err := strconv.ParseUint(number.String(), 10, 8); err == nil {
				bin = append(bin, byte(n))
			} else {
				parts = append(parts, journalText(x))
			}
		}
		if len(parts) == 0 {
			return valid(bin)
		}
		return strings.Join(parts, "\n")
	}
	return ""
}
