package workbench

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
)

// Bounds of what is worth a word on the bench.
const (
	manyADay  = 100 // times that a rule tells in a day
	newestOf  = 10  // all hits lie in the newest part of the span, which has so many
	leastHits = 2   // before that is said
)

// leastEach is how many hits there are at least before it is said that each is an alert.
const leastEach = 8

// listedKey are the fields of a key in words.
func listedKey(per []string) string { return "the key of " + english.WordSeries(per, "and") }

// newestNote begins what is said where all hits are new.
const newestNote = "All hits are newer than"

// benchNotes say what of a trial ought to make one look twice: a threshold that no key ever
// met, more alerts than anybody reads, hits among the newest entries alone.
func benchNotes(r *lang.Rule, tried *trial.Tried, from, at entry.Instant) []string {
	var out []string
	if tried.Raised == 0 && tried.Hits > 0 {
		if s := nearest(r, tried); s != "" {
			out = append(out, s)
		}
	}
	if tried.Raised > 0 && tried.Recoveries > 0 && tried.Ends["recovery"] == 0 && r.OnRecovery &&
		len(tried.Rows) > 0 {
		newest, at := []string(nil), entry.None
		for _, row := range tried.Rows {
			if n := len(row.Hits); n > 0 && row.Hits[n-1] > at {
				newest, at = row.Key, row.Hits[n-1]
			}
		}
		var over, hit []string
		for i, f := range r.Per {
			if i < len(tried.OverKey) && i < len(newest) && tried.OverKey[i] != "?" && tried.OverKey[i] != newest[i] {
				over, hit = append(over, f+" "+tried.OverKey[i]), append(hit, f+" "+newest[i])
			}
		}
		if len(over) > 0 {
			out = append(out, fmt.Sprintf("%s over, and none of them ended an alert: they speak of %s, and hits "+
				"of %s.",
				english.Plural(tried.Recoveries, "entry means", "entries mean"), strings.Join(over, ", "),
				strings.Join(hit, ", ")))
		}
	}
	if n := tried.Hits; len(r.Per) > 0 && n >= leastEach && int64(tried.Raised)*2 > n {
		out = append(out, fmt.Sprintf("%s alerts for %s hits, nearly one each: %s is another one nearly each time. "+
			"Name in per what identifies, or raise at several in a while.", humanize.Comma(int64(tried.Raised)),
			humanize.Comma(n), listedKey(r.Per)))
	}
	span := at.Sub(from)
	if day := float64(tried.Told) * float64(24*time.Hour) / float64(max(span, time.Hour)); tried.Told >= manyADay/4 &&
		day > manyADay {
		out = append(out, fmt.Sprintf("It would tell %s times a day: a higher threshold, a longer key, or reopen "+
			"within D makes fewer alerts of the same hits.", humanize.Comma(int64(day))))
	}
	first, n := at, 0
	for _, row := range tried.Rows {
		for _, h := range row.Hits {
			first = min(first, h)
			n++
		}
	}
	if len(tried.Rows) == tried.Keys && n >= leastHits && span > time.Hour && at.Sub(first) < span/newestOf {
		out = append(out, fmt.Sprintf(newestNote+" %s; nothing before says it, though the sample begins at %s.",
			api.Moment(first), api.Moment(from)))
	}
	return out
}

// nearest is the key that came nearest to the lowest threshold of hits, where none met it.
func nearest(r *lang.Rule, tried *trial.Tried) string {
	var low *lang.Raise
	for i := range r.Raises {
		if x := &r.Raises[i]; x.Hits() && x.Where == nil && x.Different == "" && (low == nil || x.At < low.At) {
			low = x
		}
	}
	if low == nil || low.At < 2 {
		return ""
	}
	best, key := 0, []string(nil)
	for _, row := range tried.Rows {
		hits := slices.Clone(row.Hits)
		slices.Sort(hits)
		for i, j := 0, 0; j < len(hits); j++ {
			for low.In > 0 && hits[j].Sub(hits[i]) >= low.In {
				i++
			}
			if n := j - i + 1; n > best {
				best, key = n, row.Key
			}
		}
	}
	of := ""
	if len(key) > 0 {
		of = " of " + strings.Join(key, " ")
	}
	s := fmt.Sprintf("No key ever met %s: the most are %d%s", low.Why(), best, of)
	if best >= low.At { // a recovery came between
		s = fmt.Sprintf("No key ever met %s: what ends it came between", low.Why())
	}
	return s + "."
}
