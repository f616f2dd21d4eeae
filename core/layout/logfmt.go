package layout

import (
	"strings"

	"dimlantern/core/entry"
)

// logfmt divides pairs of key=value, with blanks between them. A value with blanks
// stands in quotes, in which \ stands before quotes and itself; a key without a value
// is true. A line without any pair is none, and so is one with a stray quote.
func (d *Divider) logfmt(line []byte, near entry.Instant) Division {
	out := Division{}
	f := d.fields(12)
	pairs, n := 0, 0
	for i := 0; ; {
		for i < len(line) && (line[i] == ' ' || line[i] == '\t') {
			i++
		}
		if i == len(line) {
			break
		}
		from := i
		for i < len(line) && line[i] > ' ' && line[i] != '=' && line[i] != '"' {
			i++
		}
		key := line[from:i]
		if len(key) == 0 || i < len(line) && line[i] == '"' {
			return out
		}
		k := d.key(n, "", key)
		n++
		value := "true"
		if i < len(line) && line[i] == '=' {
			pairs++
			i++
			from = i
			if i < len(line) && line[i] == '"' {
				end, escaped := i+1, false
				for end < len(line) && line[end] != '"' {
					if line[end] == '\\' {
						escaped = true
						end++
					}
					end++
				}
				if end >= len(line) || end+1 < len(line) && line[end+1] > ' ' {
					return out
				}
				switch {
				case !k.wanted:
				case escaped:
					value = unescape(line[from+1 : end])
				default:
					value = valid(line[from+1 : end])
				}
				i = end + 1
			} else {
				for i < len(line) && line[i] > ' ' && line[i] != '"' {
					i++
				}
				if i < len(line) && line[i] == '"' {
					return out
				}
				if k.wanted {
					value = valid(line[from:i])
				}
			}
		}
		if k.wanted && len(f) < maxFields {
			f.put(k.name, value)
		}
	}
	if pairs == 0 {
		return out
	}
	if d.Reuse {
		d.reuse = f
	}
	out.Fits, out.Fields = true, f
	d.guessTime(&out, near)
	return out
}

// clf divides an entry of a web server's common log: host ident authuser [date]
// "request" status bytes.
func (d *Divider) clf(line []byte, near entry.Instant) Division {
	out, rest := d.web(line, near)
	if rest != "" {
		return Division{}
	}
	return out
}

// combined is clf with "referrer" "user agent" behind; what else stands there belongs
// to no field.
func (d *Divider) combined(line []byte, near entry.Instant) Division {
	out, rest := d.web(line, near)
	if !out.Fits || rest == "" {
		return Division{}
	}
	f := fields(out.Fields)
	for _, name := range []string{"referrer", "agent"} {
		v, after, ok := quotedWord(rest)
		if !ok {
			return Division{}
		}
		if v != "-" {
			f.add(name, v)
		}
		rest = after
	}
	out.Fields = f
	return out
}

var webTime = mustTime("24/Nov/2026:05:32:28 +0000")

// web divides what both web logs have in common, and returns what is behind it.
func (d *Divider) web(line []byte, near entry.Instant) (Division, string) {
	out := Division{}
	s := valid(line)
	f := d.fields(14)
	for _, name := range []string{"client", "ident", "account"} {
		w, rest, ok := strings.Cut(s, " ")
		if !ok || w == "" {
			return out, ""
		}
		if w != "-" {
			f.add(name, w)
		}
		s = rest
	}
	stamp, rest, ok := strings.Cut(strings.TrimPrefix(s, "["), "] ")
	if !ok || s[0] != '[' || len(stamp) > 40 {
		return out, ""
	}
	if out.At, out.Timed = d.cache.parse(webTime, stamp, d.Layout.zone, near); !out.Timed {
		return out, ""
	}
	f.add("at", stamp)
	request, rest, ok := quotedWord(rest)
	if !ok {
		return out, ""
	}
	if request != "-" {
		f.add("request", request)
		if parts := strings.Split(request, " "); len(parts) == 2 || len(parts) == 3 {
			f.add("method", parts[0])
			path, query, _ := strings.Cut(parts[1], "?")
			f.add("path", path)
			f.add("query", query)
			if len(parts) == 3 {
				f.add("protocol", parts[2])
			}
		}
	}
	status, rest, _ := strings.Cut(rest, " ")
	size, rest, _ := strings.Cut(rest, " ")
	if (len(status) != 3 || digits(status, 0) != 3) && status != "-" || size == "" || digits(size, 0) != len(size) && size != "-" {
		return out, ""
	}
	if status != "-" {
		f.add("status", status)
	}
	if size != "-" {
		f.add("bytes", size)
	}
	out.Fits, out.Fields = true, f
	return out, rest
}

// quotedWord cuts "…", in which \ stands before quotes and itself, and the blank behind.
func quotedWord(s string) (v, rest string, ok bool) {
	if s == "" || s[0] != '"' {
		return "", s, false
	}
	for i := 1; i < len(s); i++ {
		switch s[i] {
		case '\\':
			i++
		case '"':
			rest = s[i+1:]
			if rest != "" && rest[0] != ' ' {
				continue
			}
			v = s[1:i]
			if strings.IndexByte(v, '\\') >= 0 {
				v = strings.NewReplacer(`\"`, `"`, `\\`, `\`).Replace(v)
			}
			return v, strings.TrimPrefix(rest, " "), true
		}
	}
	return "", s, false
}
