package query

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/snapshot"
)

// outOf is what goes out to other systems, and how that goes.
func outOf(sn *snapshot.Snapshot) []api.OutView {
	var out []api.OutView
	for i := range sn.Deliveries {
		d := &sn.Deliveries[i]
		v := api.OutView{Kind: "deliver", Name: d.Name, Where: "to " + d.To, State: d.Words, Trouble: d.Trouble,
			Off: d.Off, Mend: d.Mend}
		if x := sn.Settings.Deliver(d.Name); x != nil {
			v.File, v.Line = x.Pos.File, x.Pos.Line
		}
		if d.Off {
			v.State, v.Words = "off", d.Words
			out = append(out, v)
			continue
		}
		if d.Trouble {
			v.Words = d.Words
			v.State = "waits " + entry.RoughSpan(sn.At.Sub(d.Since.Time()).Truncate(time.Second)) + ": " + d.Words
		}
		v.Facts = deliveryFacts(d)
		out = append(out, v)
	}
	for _, m := range sn.Settings.Counts {
		v := api.OutView{Kind: "measure", Name: m.Name, Where: m.Shown(), Off: m.Off, File: m.Pos.File,
			Line: m.Pos.Line, State: "0 entries"}
		if len(m.Per) > 0 {
			v.Where += " per " + strings.Join(m.Per, ", ")
		}
		for _, c := range sn.Spent.Counted {
			if c.Name == m.Name {
				v.State = fmt.Sprintf("%s %s in %s", humanize.Comma(c.Entries),
					english.PluralWord(int(c.Entries), "entry", "entries"), english.Plural(c.Series, "group", ""))
			}
		}
		v.Words = cmp.Or(sn.Trouble["measures"], sn.Trouble["measures-to"])
		to := sn.Settings.Measures
		switch {
		case m.Off:
			v.State, v.Words = "off", "off: nothing is counted"
		case v.Words != "":
			v.Trouble = true
		case to.Listen == "" && to.To == "":
			v.Words, v.Mend = "no other system can ask for it", `write: settings { measures listen "127.0.0.1:7424" }`
		}
		if to.Listen != "" {
			v.Facts = append(v.Facts, "http://"+to.Listen+"/metrics answers with it as "+m.OutNames()[0])
		}
		if to.To != "" {
			v.Facts = append(v.Facts, "it is sent to "+to.To+" every "+entry.Span(to.Every))
		}
		out = append(out, v)
	}
	return out
}

// deliveryFacts say how a delivery goes, in numbers.
func deliveryFacts(d *api.Delivery) []string {
	out := []string{humanize.Comma(d.Sent) + " " + english.PluralWord(int(d.Sent), "entry was", "entries were") +
		" handed over"}
	if d.LastTaken != 0 {
		out[0] += ", the last at " + api.Moment(d.LastTaken)
	}
	if d.Waiting > 0 {
		out = append(out, humanize.IBytes(uint64(d.Waiting))+" wait, the oldest for "+
			entry.RoughSpan(d.Oldest.Truncate(time.Second)))
	} else {
		out = append(out, "nothing waits")
	}
	if d.Lost > 0 {
		out = append(out, humanize.IBytes(uint64(d.Lost))+" went before it could be delivered")
	}
	if d.Refused > 0 {
		out = append(out, humanize.Comma(d.Refused)+" were refused for good")
	}
	return append(out, "when it cannot go on: "+d.WhenFull)
}
