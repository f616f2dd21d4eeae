package export

import (
	"slices"
	"time"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/measure"
	"dimlantern/snapshot"
)

// Counts are numbers about what was told, by the store, and what has gone out.
type Counts struct {
	Told, Waiting, Refused int64 // messages
	StoreBytes             int64
	Beyond                 int64 // entries whose group of a measure is one too many
	Deliveries             []api.Delivery
}

// Own are the measures of Dim Lantern itself. Counters begin anew with the service, and say so.
func Own(sn *snapshot.Snapshot, c *Counts, now time.Time) []measure.Family {
	o := &own{began: sn.Began}
	entries := o.counter("entries", "Entries that were read", "source")
	bytes := o.counter("read_bytes", "Bytes of logs that were read", "source")
	behind := o.gauge("behind_seconds", "Since when the source has not been read to its end", "source")
	unread := o.gauge("unread_bytes", "Bytes of logs that are there and not read yet", "source")
	blind := o.gauge("blind", "Origins that cannot be seen", "source")
	for _, src := range sn.Settings.Sources {
		if src.Off || src.Name == lang.Itself {
			continue
		}
		var left, dark int64
		late := time.Duration(0)
		for _, x := range sn.Origins {
			if x.Source.Name != src.Name {
				continue
			}
			left += x.Behind()
			late = max(late, x.Late(now))
			if sn.OriginState(x, now).Condition.Blind() {
				dark++
			}
		}
		entries.add(float64(sn.Spent.Entries[src.Name]), src.Name)
		bytes.add(float64(sn.Spent.Bytes[src.Name]), src.Name)
		behind.add(late.Seconds(), src.Name)
		unread.add(float64(left), src.Name)
		blind.add(float64(dark), src.Name)
	}
	o.rules(sn)
	o.alerts(sn)
	o.counter("told", "Messages that contacts were told").add(float64(c.Told))
	o.counter("refused", "Tries to tell a message that its receiver refused").add(float64(c.Refused))
	o.gauge("waiting", "Messages that wait to be told").add(float64(c.Waiting))
	o.gauge("store_bytes", "Size of the database").add(float64(c.StoreBytes))
	o.counter("measure_beyond", "Entries whose group of a measure was one too many").add(float64(c.Beyond))
	o.deliveries(c.Deliveries)
	out := make([]measure.Family, 0, len(o.all))
	for _, f := range o.all {
		out = append(out, f.Family)
	}
	return out
}

// rules are what rules and layouts have cost.
func (o *own) rules(sn *snapshot.Snapshot) {
	hits := o.lasting("rule_hits", "Hits of a rule, since it is known", "rule")
	judged := o.counter("rule_judged", "Entries that were tried against a rule", "rule")
	lately := o.gauge("rule_minute_entries", "Entries that were tried against a rule in the last minute", "rule")
	took := o.counter("rule_seconds", "Processor time of a rule, measured on a sample", "rule")
	p95 := o.gauge("rule_minute_p95_seconds", "Processor time of a rule in a minute, the 95th percentile", "rule")
	most := o.gauge("rule_minute_most_seconds", "Processor time of a rule in a minute, the most", "rule")
	slow := o.gauge("rule_slowest_seconds", "The slowest entry of the last day that was tried against a rule", "rule")
	for _, r := range sn.Settings.Rules {
		if r.Off {
			continue
		}
		if i := slices.IndexFunc(sn.Engine.Costs, func(x engine.Cost) bool { return x.Rule == r.Name }); i >= 0 {
			hits.add(float64(sn.Engine.Costs[i].Hits), r.Name)
		}
		judged.add(float64(sn.Spent.Judged[r.Name]), r.Name)
		lately.add(float64(sn.Spent.Minute[r.Name]), r.Name)
		took.add(sn.Spent.Took[r.Name].Seconds(), r.Name)
		p95.add(sn.Spent.P95[r.Name].Seconds(), r.Name)
		most.add(sn.Spent.Most[r.Name].Seconds(), r.Name)
		slow.add(sn.Spent.Slow[r.Name].Took.Seconds(), r.Name)
	}
	reading := o.counter("source_seconds", "Processor time of reading a source and dividing its entries", "source",
		"layout")
	dividing := o.counter("layout_seconds", "Processor time of dividing entries into fields, measured on a sample",
		"source", "layout")
	divided := o.counter("layout_entries", "Entries that were divided into fields", "source", "layout")
	dividedLately := o.gauge("layout_minute_entries", "Entries that were divided into fields in the last minute",
		"source", "layout")
	slowest := o.gauge("layout_slowest_seconds", "The slowest entry of the last day that was divided", "source",
		"layout")
	readP95 := o.gauge("source_minute_p95_seconds", "Processor time of reading a source in a minute, the 95th "+
		"percentile", "source", "layout")
	readMost := o.gauge("source_minute_most_seconds", "Processor time of reading a source in a minute, the most",
		"source", "layout")
	for _, src := range sn.Settings.Sources {
		if !src.Off && src.Name != lang.Itself {
			x := sn.Spent.Sources[src.Name]
			reading.add(x.Reading.Seconds(), src.Name, src.LayoutName())
			dividing.add(x.Dividing.Seconds(), src.Name, src.LayoutName())
			divided.add(float64(x.Entries), src.Name, src.LayoutName())
			dividedLately.add(float64(x.Minute), src.Name, src.LayoutName())
			slowest.add(x.Slow.Took.Seconds(), src.Name, src.LayoutName())
			readP95.add(x.P95.Seconds(), src.Name, src.LayoutName())
			readMost.add(x.Most.Seconds(), src.Name, src.LayoutName())
		}
	}
}

// alerts are how many are open.
func (o *own) alerts(sn *snapshot.Snapshot) {
	open := o.gauge("alerts_open", "Alerts that are open", "severity")
	taken := o.gauge("alerts_taken", "Alerts that are open and taken")
	n := map[entry.Severity]int{}
	sn.Engine.Open(func(k *engine.KeyView) bool { n[k.Severity]++; return true })
	for s := entry.Notice; s <= entry.Critical; s++ {
		open.add(float64(n[s]), s.String())
	}
	taken.add(float64(len(sn.Taken)))
}

// deliveries are how deliveries stand.
func (o *own) deliveries(list []api.Delivery) {
	sent := o.lasting("delivered", "Entries that were handed over", "delivery")
	dropped := o.lasting("delivery_lost_bytes", "Bytes of logs that went before they could be delivered", "delivery")
	refused := o.lasting("delivery_refused", "Entries that the receiver refused for good", "delivery")
	waits := o.gauge("delivery_waiting_bytes", "Bytes of logs that wait to be delivered", "delivery")
	oldest := o.gauge("delivery_oldest_seconds", "Since when the oldest of them waits", "delivery")
	for i := range list {
		d := &list[i]
		sent.add(float64(d.Sent), d.Name)
		dropped.add(float64(d.Lost), d.Name)
		refused.add(float64(d.Refused), d.Name)
		waits.add(float64(d.Waiting), d.Name)
		oldest.add(d.Oldest.Seconds(), d.Name)
	}
}

// own builds families.
type own struct {
	began entry.Instant
	all   []*ownFamily
}

type ownFamily struct {
	measure.Family
	began entry.Instant
}

func (o *own) family(name string, t measure.Type, help string, labels []string) *ownFamily {
	f := &ownFamily{Family: measure.Family{Name: "dimlantern_" + name, Type: t, Help: help, Labels: labels}}
	for _, unit := range []string{"seconds", "bytes"} {
		if len(name) > len(unit) && name[len(name)-len(unit)-1:] == "_"+unit {
			f.Unit = unit
		}
	}
	o.all = append(o.all, f)
	return f
}

func (o *own) counter(name, help string, labels ...string) *ownFamily {
	f := o.family(name, measure.Counter, help, labels)
	f.began = o.began
	return f
}

// lasting is a counter that goes on through restarts; since when is not known.
func (o *own) lasting(name, help string, labels ...string) *ownFamily {
	return o.family(name, measure.Counter, help, labels)
}

func (o *own) gauge(name, help string, labels ...string) *ownFamily {
	return o.family(name, measure.Gauge, help, labels)
}

func (f *ownFamily) add(value float64, labels ...string) {
	f.Points = append(f.Points, measure.Point{Labels: labels, Value: value, Began: f.began})
}
