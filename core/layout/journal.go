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
func (d *Divider) journal(line []byte, _ entry.Instant) Division {
	if len(line) == 0 || line[0] != '{' {
		return Division{}
	}
	dec := json.NewDecoder(bytes.NewReader(line))
	if t, err := dec.Token(); err != nil || t != json.Delim('{') {
		return Division{}
	}
	var f fields
	var text, real, source string
	raw := map[string]string{}
	for dec.More() {
		name, err := dec.Token()
		if err != nil {
			return Division{}
		}
		var v any
		if err := dec.Decode(&v); err != nil {
			return Division{}
		}
		key, value := name.(string), journalText(v)
		switch key {
		case "__REALTIME_TIMESTAMP":
			real = value
		case "_SOURCE_REALTIME_TIMESTAMP":
			source = value
		case "MESSAGE":
			text = value
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
			raw[key] = value
			if ours := journalNames[key]; ours != "" {
				f.add(ours, value)
			} else {
				f.extra(strings.ReplaceAll(strings.ToLower(strings.TrimLeft(key, "_")), "_", "-"), "journal-", value)
			}
		}
	}
	if _, err := dec.Token(); err != nil {
		return Division{}
	}
	if f.get("program") == "" {
		f.add("program", raw["_COMM"])
	}
	if f.get("unit") == "" {
		f.add("unit", raw["_SYSTEMD_USER_UNIT"])
	}
	if f.get("pid") == "" {
		f.add("pid", raw["SYSLOG_PID"])
	}
	out := Division{Fits: true}
	for _, s := range []string{source, real} {
		if us, err := strconv.ParseInt(s, 10, 64); err == nil && us > 0 && us < 1<<53 && !out.Timed {
			out.At, out.Timed = entry.Instant(us*1000), true
			f.add("at", out.At.String())
		}
	}
	out.Fields = append(f, entry.Field{Name: "text", Value: text})
	return out
}

func journalText(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case []any: // several values, or bytes as numbers
		var parts []string
		var bin []byte
		for _, x := range v {
			if n, ok := x.(float64); ok && n >= 0 && n < 256 {
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
