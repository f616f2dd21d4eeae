package main

import (
	"fmt"
	"io"
	"os"
	"sort"
	"strings"
	"time"

	"dimlantern/folder"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/trial"
	"dimlantern/draw"
)

// drawing collects what a replay tells for a drawing of its lifelines. One that
// is not asked for collects nothing.
type drawing struct {
	o    *replayOptions
	rows map[string]*draw.Row
	from entry.Instant
}

// maxRows is how many lifelines a drawing holds; those with alerts come first.
const maxRows = 500

func newDrawing(o *replayOptions) *drawing {
	return &drawing{o: o, rows: map[string]*draw.Row{}, from: entry.None}
}

func (d *drawing) wanted() bool { return d.o.svg != "" || d.o.pdf != "" }

func (d *drawing) row(rule string, key []string) *draw.Row {
	k := strings.Join(key, " ")
	id := rule + "\x00" + k
	if d.rows[id] == nil {
		d.rows[id] = &draw.Row{Rule: rule, Key: k}
	}
	return d.rows[id]
}

// hit returns what takes the hits, or nil where nobody wants them.
func (d *drawing) hit() func(string, []string, entry.Instant) {
	if !d.wanted() {
		return nil
	}
	return func(rule string, key []string, at entry.Instant) {
		r := d.row(rule, key)
		r.Hits = append(r.Hits, at)
		if d.from == entry.None || at < d.from {
			d.from = at
		}
	}
}

func (d *drawing) take(t *engine.Transition) {
	if !d.wanted() {
		return
	}
	r := d.row(t.Rule, t.Key)
	switch t.Change {
	case engine.Raised, engine.Reopened:
		if d.from == entry.None || t.At < d.from {
			d.from = t.At
		}
		r.Alerts = append(r.Alerts, draw.Alert{From: t.At, To: entry.None,
			Steps: []draw.Step{{At: t.At, Severity: t.Severity}}})
	case engine.Worsened:
		a := &r.Alerts[len(r.Alerts)-1]
		a.Steps = append(a.Steps, draw.Step{At: t.At, Severity: t.Severity})
	case engine.Cleared:
		a := &r.Alerts[len(r.Alerts)-1]
		a.To, a.Why = t.At, t.Why
	}
}

// write makes the files.
func (d *drawing) write(sum trial.Summary) error {
	if !d.wanted() {
		return nil
	}
	c := &draw.Chart{Title: "What the rules would have done", From: d.from, To: sum.Clock, Zone: time.Local}
	if sum.First != entry.None && (c.From == entry.None || sum.First < c.From) {
		c.From = sum.First // where the log begins
	}
	if c.From == entry.None {
		c.From = c.To
	}
	for _, r := range d.rows {
		c.Rows = append(c.Rows, *r)
	}
	sort.Slice(c.Rows, func(i, j int) bool {
		a, b := &c.Rows[i], &c.Rows[j]
		switch {
		case (len(a.Alerts) > 0) != (len(b.Alerts) > 0):
			return len(a.Alerts) > 0
		case a.Rule != b.Rule:
			return a.Rule < b.Rule
		}
		return a.Key < b.Key
	})
	if n := len(c.Rows) - maxRows; n > 0 {
		c.Rows = c.Rows[:maxRows]
		fmt.Fprintf(os.Stderr, "dimlantern: the drawing holds the first %d keys; %d more are left out\n", maxRows, n)
	}
	for _, f := range []struct {
		path string
		to   func(io.Writer) error
	}{{d.o.svg, c.SVG}, {d.o.pdf, c.PDF}} {
		if f.path == "" {
			continue
		}
		var b strings.Builder
		err := f.to(&b)
		if err == nil {
			err = folder.Replace(f.path, b.String())
		}
		if err != nil {
			return fmt.Errorf("the drawing cannot be made: %w", err)
		}
	}
	return nil
}
