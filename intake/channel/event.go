package channel

import (
	"bytes"
	"html"
	"sort"
	"time"

	"dimlantern/core/lang"
	"dimlantern/core/layout"
)

// Computer is the computer that an event names; "" where it names none.
func Computer(event []byte) string { return element(event, "Computer") }

// element is the text of the first element of a name that has no attributes.
func element(event []byte, name string) string {
	_, rest, ok := bytes.Cut(event, []byte("<"+name+">"))
	if !ok {
		return ""
	}
	text, _, ok := bytes.Cut(rest, []byte("</"+name+">"))
	if !ok {
		return ""
	}
	return html.UnescapeString(string(bytes.TrimSpace(text)))
}

// tally counts what is in a channel.
type tally struct {
	info  Info
	kinds map[[2]string]*Count
}

// reader divides events as the layout event-xml does.
func reader() *layout.Divider {
	return &layout.Divider{Layout: layout.Compile((&lang.Settings{}).Layout("event-xml"), time.UTC, nil)}
}

// maxKinds is how many kinds of events are told of a channel.
const maxKinds = 20

func (t *tally) add(d *layout.Divider, event []byte) {
	x := d.Divide(event, 0)
	t.info.Records++
	if x.Timed && x.At.Time().After(t.info.Newest) {
		t.info.Newest = x.At.Time()
	}
	var id, level, text string
	for _, f := range x.Fields {
		switch f.Name {
		case "event":
			id = f.Value
		case "level":
			level = f.Value
		case "text":
			text = f.Value
		}
	}
	if t.kinds == nil {
		t.kinds = map[[2]string]*Count{}
	}
	k := t.kinds[[2]string{id, level}]
	if k == nil {
		if len(t.kinds) >= 1000 {
			return
		}
		k = &Count{Event: id, Level: level}
		t.kinds[[2]string{id, level}] = k
	}
	k.N++
	k.Text = text
}

func (t *tally) done() Info {
	for _, k := range t.kinds {
		t.info.Kinds = append(t.info.Kinds, *k)
	}
	sort.Slice(t.info.Kinds, func(i, j int) bool {
		a, b := t.info.Kinds[i], t.info.Kinds[j]
		if a.N != b.N {
			return a.N > b.N
		}
		return a.Event < b.Event
	})
	t.info.Kinds = t.info.Kinds[:min(len(t.info.Kinds), maxKinds)]
	return t.info
}
