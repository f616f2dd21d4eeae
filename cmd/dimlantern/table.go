package main

import (
	"cmp"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/trial"
)

// alertTable collects what became of each alert, a row each.
type alertTable struct {
	rows []*alertRow // in the order in which they were raised
	open map[string]*alertRow
}

type alertRow struct {
	rule, key, id string
	severity      entry.Severity // the worst
	raised, ended entry.Instant
	why           string // how it ended
	hits          int
	again         int // times that it was reopened
}

func (t *alertTable) take(x *engine.Transition) {
	if t.open == nil {
		t.open = map[string]*alertRow{}
	}
	r := t.open[x.Alert]
	if r == nil {
		r = &alertRow{rule: x.Rule, key: strings.Join(x.Key, " "), id: x.Alert, raised: x.At, ended: entry.None}
		t.rows = append(t.rows, r)
		t.open[x.Alert] = r
	}
	r.severity, r.hits = max(r.severity, x.Severity), x.Count
	switch x.Change {
	case engine.Reopened:
		r.again++
		r.ended, r.why = entry.None, ""
	case engine.Cleared:
		r.ended, r.why = x.At, x.Why
	}
}

// write prints the table; the sum knows what is still open.
func (t *alertTable) write(w io.Writer, sum trial.Summary) {
	for _, v := range sum.Still {
		if r := t.open[v.Alert]; r != nil {
			r.hits = v.Count
		}
	}
	if len(t.rows) == 0 {
		return
	}
	table := tabwriter.NewWriter(w, 2, 0, 2, ' ', 0)
	fmt.Fprintln(table, "RAISED\tLASTED\tWORST\tRULE\tKEY\tHITS\tENDED BY")
	for _, r := range t.rows {
		until, ended := sum.Clock, "open"
		if r.ended != entry.None {
			until, ended = r.ended, r.why
		}
		if r.again > 0 {
			ended += fmt.Sprintf(", open again %s", count(r.again, "time", "times"))
		}
		fmt.Fprintf(table, "%s\t%s\t%s\t%s\t%s\t%d\t%s\n",
			time.Unix(0, int64(r.raised)).Format("2006-01-02 15:04:05"),
			cmp.Or(entry.RoughSpan(until.Sub(r.raised).Truncate(time.Second)), "0s"), r.severity, r.rule,
			shown(r.key), r.hits, ended)
	}
	table.Flush()
}
