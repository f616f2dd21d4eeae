package layout

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"strings"

	"dimlantern/core/entry"
)

// event divides an event in the published event XML: what System says, every named
// datum, and the message where it was rendered.
func (d *Divider) event(line []byte, near entry.Instant) Division {
	e, ok := readEvent(line)
	if !ok {
		return Division{}
	}
	out := Division{Fits: true}
	var f fields
	if at, ok := RFC3339.Parse(e.time, d.Layout.zone, near); ok {
		out.At, out.Timed = at, true
		f.add("at", e.time)
	}
	level := e.rendered["Level"]
	if n := e.system["Level"]; len(n) == 1 && n[0] <= '5' && n[0] >= '0' {
		level = [6]string{"info", "critical", "error", "warning", "info", "debug"}[n[0]-'0']
	} else if level == "" {
		level = n
	}
	f.add("provider", e.provider)
	f.add("channel", e.system["Channel"])
	f.add("event", e.system["EventID"])
	f.add("level", strings.ToLower(level))
	f.add("category", either(e.rendered["Task"], e.system["Task"]))
	f.add("host", e.system["Computer"])
	f.add("record", e.system["EventRecordID"])
	f.add("pid", e.pid)
	f.add("thread", e.thread)
	f.add("opcode", either(e.rendered["Opcode"], e.system["Opcode"]))
	f.add("keywords", either(strings.Join(e.keywords, ", "), e.system["Keywords"]))
	id, name := e.user, e.account()
	f.add("account-id", id)
	f.add("account-name", name)
	switch {
	case d.Layout.account == "id":
		f.add("account", either(id, name))
	case d.Layout.account == "both" && id != "" && name != "":
		f.add("account", name+" ("+id+")")
	default:
		f.add("account", either(name, id))
	}
	for i, x := range e.data {
		if x.Name == "" {
			x.Name = fmt.Sprintf("data-%d", i+1)
		}
		f.extra(x.Name, "data-", x.Value)
	}
	text := strings.TrimSpace(e.rendered["Message"])
	if text == "" {
		text = e.told()
	} else if d.Layout.essentials {
		text = essentials(text)
	}
	out.Fields = append(f, entry.Field{Name: "text", Value: text})
	return out
}

func either(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// essentials is the first sentence or line of a message: what follows explains it
// to every reader anew.
func essentials(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	line = strings.TrimSpace(line)
	if i := strings.Index(line, ". "); i > 20 {
		line = line[:i+1]
	}
	return line
}

// event is what an event says.
type event struct {
	provider, time, user, pid, thread string
	system                            map[string]string
	rendered                          map[string]string
	keywords                          []string
	data                              []entry.Field
}

// account is the name of the account that the event is about, or that acted.
func (e *event) account() string {
	for _, want := range []string{"TargetUserName", "Account", "AccountName", "UserName", "User", "SubjectUserName"} {
		for _, d := range e.data {
			if d.Name == want && d.Value != "" && d.Value != "-" {
				return d.Value
			}
		}
	}
	return ""
}

// told makes a text of an event whose message was not rendered: its data.
func (e *event) told() string {
	var parts []string
	for _, d := range e.data {
		if d.Name != "" {
			parts = append(parts, d.Name+" "+d.Value)
		} else if d.Value != "" {
			parts = append(parts, d.Value)
		}
	}
	return strings.Join(parts, ", ")
}

// maxEventDepth bounds how deep the elements of an event may stand in each other.
const maxEventDepth = 32

func readEvent(line []byte) (*event, bool) {
	line = bytes.TrimSpace(line)
	if len(line) == 0 || line[0] != '<' {
		return nil, false
	}
	dec := xml.NewDecoder(bytes.NewReader(line))
	dec.Strict = true
	e := &event{system: map[string]string{}, rendered: map[string]string{}}
	var path []string
	var text strings.Builder
	datum := ""
	for {
		t, err := dec.RawToken()
		if err != nil {
			break
		}
		switch t := t.(type) {
		case xml.StartElement:
			if len(path) == 0 && t.Name.Local != "Event" || len(path) >= maxEventDepth {
				return nil, false
			}
			path = append(path, t.Name.Local)
			text.Reset()
			datum = e.attributes(path, t.Attr)
		case xml.CharData:
			text.Write(t)
		case xml.EndElement:
			if len(path) == 0 || path[len(path)-1] != t.Name.Local {
				return nil, false
			}
			e.element(path, datum, text.String())
			text.Reset()
			datum = ""
			if path = path[:len(path)-1]; len(path) == 0 {
				return e, len(e.system) > 0
			}
		}
	}
	return nil, false
}

// attributes takes what an element says in its attributes, and returns the name of
// a datum.
func (e *event) attributes(path []string, attrs []xml.Attr) string {
	get := func(name string) string {
		for _, a := range attrs {
			if a.Name.Local == name {
				return a.Value
			}
		}
		return ""
	}
	switch strings.Join(path, "/") {
	case "Event/System/Provider":
		e.provider = either(get("Name"), get("EventSourceName"))
	case "Event/System/TimeCreated":
		e.time = get("SystemTime")
	case "Event/System/Execution":
		e.pid, e.thread = get("ProcessID"), get("ThreadID")
	case "Event/System/Security":
		e.user = get("UserID")
	}
	return get("Name")
}

func (e *event) element(path []string, datum, text string) {
	name := path[len(path)-1]
	switch {
	case len(path) == 3 && path[1] == "System":
		if v := strings.TrimSpace(text); v != "" {
			e.system[name] = v
		}
	case len(path) == 3 && path[1] == "RenderingInfo":
		if v := strings.TrimSpace(text); v != "" {
			e.rendered[name] = v
		}
	case len(path) == 4 && path[1] == "RenderingInfo" && name == "Keyword":
		e.keywords = append(e.keywords, strings.TrimSpace(text))
	case len(path) == 3 && path[1] == "EventData" && name == "Data":
		e.data = append(e.data, entry.Field{Name: datum, Value: strings.TrimSpace(text)})
	case len(path) >= 3 && (path[1] == "UserData" || path[1] == "EventData") && strings.TrimSpace(text) != "":
		e.data = append(e.data, entry.Field{Name: either(datum, name), Value: strings.TrimSpace(text)})
	}
}
