package query

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"github.com/dustin/go-humanize"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/intake/spool"
	"dimlantern/snapshot"
	"dimlantern/store"
)

// month is how far ahead it is reckoned what will be taken.
const month = 30 * 24 * time.Hour

// Keep is what is kept, how long, what that takes on the disk, and what it will take in a month.
func (s *Asker) Keep(context.Context, api.None) (*api.KeepList, error) {
	sn := s.Window.Now()
	now := entry.Of(time.Now())
	out := &api.KeepList{}
	if err := s.keptEntries(sn, out, now); err != nil {
		return nil, err
	}
	parts, free, err := s.Store.Parts(now)
	if err != nil {
		return nil, err
	}
	stays := sn.Settings.Stays
	add := func(name, what string, stays time.Duration, words string, p store.Part) {
		k := api.Kept{Name: name, What: what, For: "for ever", Bytes: p.Bytes, Entries: p.Rows, Oldest: p.Oldest}
		if stays > 0 {
			k.For = entry.Span(stays)
		}
		k.For = cmp.Or(words, k.For)
		each := int64(0)
		if p.Rows > 0 {
			each = p.Bytes / p.Rows
		}
		k.Month = ahead(p.Bytes, each*p.Week, now.Sub(p.Oldest), stays)
		out.List = append(out.List, k)
	}
	add("alerts", "alerts that are over, with their evidence", stays.Alerts, "", parts["alerts"])
	add("history", "transitions, and what people did", stays.History, "", parts["history"])
	add("counts", "how many entries and hits there were when", 90*24*time.Hour, "90d", parts["counts"])
	add("messages", "what contacts were told", 30*24*time.Hour, "30d", parts["messages"])
	add("state", "where reading stands, the state of rules, measures and deliveries", 0, "as long as it is needed",
		parts["state"])
	if err := s.keptResults(sn, out); err != nil {
		return nil, err
	}
	out.Free = free
	for _, k := range out.List {
		out.Bytes, out.Month = out.Bytes+k.Bytes, out.Month+k.Month
	}
	return out, nil
}

// ahead is what something will take in a month: as much more as came in the last week, as long as that
// stays.
func ahead(bytes, week int64, age, stays time.Duration) int64 {
	known := min(max(age, time.Hour), 7*24*time.Hour)
	perDay := float64(week) / known.Hours() * 24
	if stays > 0 && age+month > stays { // what is older goes meanwhile
		return int64(perDay * min(stays.Hours(), (age+month).Hours()) / 24)
	}
	return bytes + int64(perDay*month.Hours()/24)
}

// keptEntries are the entries that exist nowhere else, by source.
func (s *Asker) keptEntries(sn *snapshot.Snapshot, out *api.KeepList, now entry.Instant) error {
	kept, week, err := s.Store.KeptFiles(now.Add(-7 * 24 * time.Hour))
	if err != nil {
		return err
	}
	total := int64(0)
	first := len(out.List)
	for _, src := range sn.Settings.Sources {
		p, ok := kept[src.Name]
		if !src.Kept() && !ok {
			continue
		}
		k := api.Kept{Name: "entries of " + src.Name, What: src.Where(), Bytes: p.Bytes, Entries: p.Rows,
			Oldest: p.Oldest}
		stays := cmp.Or(src.Keep.For, spool.DefaultKeep)
		switch src.Keep.How {
		case "hits", "nothing":
			k.For = "until they are judged"
			stays = time.Hour
		default:
			k.For = entry.Span(stays)
		}
		if p.Rows > 0 {
			k.Month = ahead(p.Bytes, week[src.Name], now.Sub(p.Oldest), stays)
		}
		total += k.Month
		out.List = append(out.List, k)
	}
	capacity := sn.Settings.Capacity()
	for i := first; i < len(out.List); i++ { // all together they have a bound
		k := &out.List[i]
		if k.For += fmt.Sprintf(", all together at most %s", humanize.IBytes(uint64(capacity))); total > capacity {
			k.Month = int64(float64(k.Month) * float64(capacity) / float64(total))
		}
	}
	return nil
}

// keptResults are the results of reports.
func (s *Asker) keptResults(sn *snapshot.Snapshot, out *api.KeepList) error {
	results, err := s.Store.Results("")
	if err != nil {
		return err
	}
	k := api.Kept{Name: "results", What: "of reports", For: "as many as each report keeps"}
	if d := sn.Settings.Stays.Results; d > 0 {
		k.For += ", " + entry.Span(d) + " at most"
	}
	per := map[string]int64{}
	for i := range results {
		k.Entries++
		for _, f := range results[i].Files {
			k.Bytes += f.Size
			per[results[i].Report] = max(per[results[i].Report], f.Size)
		}
		k.Oldest = results[i].Made
	}
	k.Month = k.Bytes
	for _, r := range sn.Settings.Reports {
		k.Month += growth(r, results)
	}
	out.List = append(out.List, k)
	return nil
}

// growth is how much more the results of a report will take in a month.
func growth(r *lang.Report, results []store.Result) int64 {
	if r.Every == nil || r.Off {
		return 0
	}
	n, size := 0, int64(0)
	for i := range results {
		if results[i].Report != r.Name {
			continue
		}
		n++
		for _, f := range results[i].Files {
			size += f.Size
		}
	}
	if n == 0 {
		return 0
	}
	due, zone := 0, cmp.Or(r.Zone, time.Local)
	now := entry.Of(time.Now())
	for at := r.Every.Next(now, zone); at != entry.None && at < now.Add(month) && due < r.Results(); due++ {
		at = r.Every.Next(at, zone)
	}
	return size / int64(n) * int64(max(min(n+due, r.Results())-n, 0))
}
