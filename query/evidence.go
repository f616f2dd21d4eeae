package query

import (
	"bytes"
	"cmp"
	"encoding/json"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
	"dimlantern/folder"
	"dimlantern/intake"
	"dimlantern/store"
)

// around is how many bytes of a log are read before and after the newest hit.
const (
	aroundBefore = 48 << 10
	aroundAfter  = 16 << 10
)

// evidence puts the hits into the stream that they came from.
func (s *Asker) evidence(d *api.Detail, q api.DetailQuery, settings *lang.Settings, r *lang.Rule, hits []store.Hit,
	at entry.Instant) {
	if len(hits) == 0 {
		return
	}
	newest := hits[0]
	d.Origin = newest.Origin
	_, path, _ := strings.Cut(newest.Origin, ":")
	d.Host = filepath.Base(path)
	if i := slices.Index(d.Fields, "host"); i >= 0 && i < len(q.Key) {
		d.Host = q.Key[i]
	}
	if !q.Brief {
		d.Lines = s.readAround(d, settings, newest, hits, at)
	}
	if len(d.Lines) == 0 && !q.Brief && q.Alert != "" {
		if b := s.Store.Around(q.Alert); b != nil && json.Unmarshal(b, &d.Lines) == nil {
			d.Unread = "the log is gone; these lines were kept with the alert"
		}
	}
	if len(d.Lines) == 0 {
		for _, h := range hits {
			d.Lines = append(d.Lines, api.Evidence{At: h.At, Text: h.Text, Hit: !h.Recovery, Recovery: h.Recovery})
		}
	}
	if n := max(q.Lines, 1); len(d.Lines) > n {
		d.Lines = d.Lines[:n]
	}
	for i := range d.Lines {
		e := &d.Lines[i]
		if r != nil && (e.Hit || e.Recovery) {
			x := r.Problem
			if e.Recovery {
				x = r.Recovery
			}
			e.Lit = lit(x, e.Text)
		}
	}
}

// readAround reads the lines around the newest hit from its file.
func (s *Asker) readAround(d *api.Detail, settings *lang.Settings, newest store.Hit, hits []store.Hit,
	at entry.Instant) []api.Evidence {
	src, path := Holding(s.Window.Now().Origins, newest)
	if path == "" {
		d.Unread = "the lines around are not there any more"
		if h := s.Window.Now().Hosts.Host(hostOfOrigin(newest.Origin)); h != nil {
			d.Unread = "the lines around are on " + h.Name
		}
		return nil
	}
	out, err := Around(settings, src, path, newest, hits, at, aroundBefore, aroundAfter)
	if err != nil {
		d.Unread = "the lines around cannot be read: " + folder.Reason(err).Error()
	}
	return out
}

// Holding is the source of a hit, and the file that has it; "" where none has.
func Holding(origins []*intake.Origin, h store.Hit) (*lang.Source, string) {
	for _, o := range origins {
		if o.Name == h.Origin {
			return o.Source, o.Holding(h.Offset, h.Text)
		}
	}
	return nil, ""
}

// Around reads the lines around the newest hit from a file, so many bytes before and
// behind it.
func Around(settings *lang.Settings, src *lang.Source, path string, newest store.Hit, hits []store.Hit,
	at entry.Instant, before, after int64) ([]api.Evidence, error) {
	from := max(0, newest.Offset-before)
	buf := make([]byte, newest.Offset-from+after)
	n, err := intake.ReadAt(path, buf, from)
	if n == 0 && err != nil {
		return nil, err
	}
	buf = buf[:n]
	if from > 0 {
		i := bytes.IndexByte(buf, '\n') + 1
		buf, from = buf[i:], from+int64(i)
	}
	type spot struct { // a place alone stands in every member of a series
		offset int64
		text   string
	}
	places := map[spot]store.Hit{}
	for _, h := range hits {
		if h.Origin == newest.Origin {
			places[spot{h.Offset, h.Text}] = h
		}
	}
	plan := match.NewPlan(settings, src, nil, time.Local)
	div := &layout.Divider{Layout: plan.Layout, Header: intake.HeaderOf(path, plan)}
	l := settings.Layout(src.LayoutName())
	var out []api.Evidence
	last := entry.None
	for len(buf) > 0 {
		k := plan.First(buf, match.UTF8) // an entry of many lines is one
		if buf[k-1] != '\n' {
			break
		}
		line := bytes.TrimSuffix(buf[:k-1], []byte{'\r'})
		if plan.Layout.Headed() {
			div.See(line)
		}
		x, shown := plan.Shown(div, line, at)
		e := api.Evidence{At: entry.None, Text: shown}
		if x.Timed {
			e.At = x.At.Add(newest.Skew)
		} else {
			e.At = last
		}
		last = e.At
		place := spot{from, entry.Evidence(e.Text)}
		if h, ok := places[place]; ok {
			delete(places, place)
			e.Hit, e.Recovery, e.At = !h.Recovery, h.Recovery, h.At
		}
		e.Text = told(l, div, e.Text, at)
		if len(e.Text) > 4096 {
			e.Text = strings.ToValidUTF8(e.Text[:4096], "")
		}
		if e.At <= at && strings.TrimSpace(e.Text) != "" {
			out = append(out, e)
		}
		buf, from = buf[k:], from+int64(k)
	}
	slices.Reverse(out)
	if i := slices.IndexFunc(out, func(e api.Evidence) bool { return e.Hit || e.Recovery }); i > newerShown {
		out = out[i-newerShown:]
	}
	// Hits of older members, and of other origins, stand among them without their neighbours.
	for _, h := range hits {
		if _, left := places[spot{h.Offset, h.Text}]; !left && h.Origin == newest.Origin {
			continue
		}
		x, text := plan.Shown(div, []byte(h.Text), at) // it may be from before something was masked
		if src.Kept() || !x.Hides() {
			text = h.Text
		}
		e := api.Evidence{At: h.At, Text: told(l, div, text, at), Hit: !h.Recovery, Recovery: h.Recovery}
		i := slices.IndexFunc(out, func(o api.Evidence) bool { return o.At < e.At })
		if i < 0 {
			i = len(out)
		}
		out = slices.Insert(out, i, e)
	}
	return out, nil
}

// newerShown is how many lines behind the newest hit are shown.
const newerShown = 12

// told is an entry without its time, which is shown beside it; of one whose format
// gives every part a name, what says most.
func told(l *lang.Layout, div *layout.Divider, text string, near entry.Instant) string {
	if l == nil {
		return text
	}
	if l.Format != "" {
		x := div.Divide([]byte(text), near)
		if !x.Fits {
			return text
		}
		get := func(name string) string {
			for _, f := range x.Fields {
				if f.Name == name {
					return f.Value
				}
			}
			return ""
		}
		if l.Format == "event-xml" {
			return strings.Join(strings.Fields(get("event")+" "+get("level")), " ") + "  " + get("text")
		}
		if get("text") == "" {
			return saidBy(x.Fields)
		}
		program := get("program")
		if pid := get("pid"); pid != "" {
			program += "[" + pid + "]"
		}
		return strings.TrimPrefix(program+": ", ": ") + get("text")
	}
	if t := timePrefix(l, div, []byte(text), near); t != "" {
		return strings.TrimLeft(strings.TrimPrefix(text, t), " ")
	}
	return text
}

// saidBy is what fields say that have no text among them: of a web log the request and what
// became of it, else each by name.
func saidBy(fields []entry.Field) string {
	var out []string
	web := slices.ContainsFunc(fields, func(f entry.Field) bool { return f.Name == "request" })
	for _, f := range fields {
		if web && slices.Contains([]string{"client", "account", "request", "status", "bytes"}, f.Name) {
			out = append(out, f.Value)
		} else if !web && f.Value != "" && layout.AnyTime(f.Value) == nil {
			out = append(out, f.Name+" "+f.Value)
		}
	}
	if web {
		return strings.Join(out, " ")
	}
	return strings.Join(out, "  ")
}

// timePrefix is the time that a line begins with as it is written, so that it
// need not be shown twice.
func timePrefix(l *lang.Layout, div *layout.Divider, line []byte, near entry.Instant) string {
	if l == nil || l.Time == nil || len(l.Time.Fields) != 1 {
		return ""
	}
	for _, f := range div.Divide(line, near).Fields {
		if f.Name == l.Time.Fields[0] && strings.HasPrefix(string(line), f.Value) {
			return f.Value
		}
	}
	return ""
}

// lit finds the stretches of a line that an expression matched.
func lit(x lang.Expr, line string) [][2]int {
	var out [][2]int
	lang.Walk(x, func(part lang.Expr, under bool) {
		switch p := part.(type) {
		case *lang.Match:
			if under || p.Neg || p.Field != "" {
				return
			}
			if m := p.Pattern.Re().FindStringIndex(line); m != nil && m[1] > m[0] {
				out = append(out, [2]int{m[0], m[1]})
			} else if l := lang.Needs(p.Pattern); m == nil { // it was anchored to a field
				for _, n := range l {
					if i := strings.Index(line, n.Text); i >= 0 {
						out = append(out, [2]int{i, i + len(n.Text)})
						break
					}
				}
			}
		case *lang.Phrase:
			if i := strings.Index(line, p.Text); !under && i >= 0 && match.HasPhrase(line, p.Text) {
				out = append(out, [2]int{i, i + len(p.Text)})
			}
		case *lang.Compare:
			text := cmp.Or(p.Value.Text, p.Value.Src)
			if i := strings.Index(line, text); !under && text != "" && i >= 0 {
				out = append(out, [2]int{i, i + len(text)})
			}
		}
	})
	sort.Slice(out, func(i, j int) bool { return out[i][0] < out[j][0] })
	return out
}
