package ask

import (
	"cmp"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// slowRow is a row as the slow evaluator has it.
type slowRow struct {
	at     entry.Instant
	cut    bool
	per    string
	rest   bool
	values []string
	beside []string
}

func (r slowRow) String() string {
	return fmt.Sprintf("%s cut=%v [%s] rest=%v %v beside %v", r.at, r.cut, r.per, r.rest, r.values, r.beside)
}

// slow answers a question in the most obvious way: it looks at all entries again for each number.
type slow struct {
	q    *lang.Question
	zone *time.Location
	all  []entry.Entry
	lamp entry.Instant
}

// start is when the period of an instant begins, by looking at the calendar.
func (x *slow) start(at entry.Instant) (from, to entry.Instant) {
	t := at.Time().In(x.zone)
	midnight := func(y int, m time.Month, d int) entry.Instant {
		return entry.Of(time.Date(y, m, d, 0, 0, 0, 0, x.zone))
	}
	y, m, d := t.Date()
	switch e := x.q.Every; {
	case e.Unit == "month":
		return midnight(y, m, 1), midnight(y, m+1, 1)
	case e.Unit == "week":
		for time.Date(y, m, d, 12, 0, 0, 0, x.zone).Weekday() != time.Monday {
			d--
		}
		return midnight(y, m, d), midnight(y, m, d+7)
	case e.D >= lang.Day:
		n := int(e.D / lang.Day)
		for int(time.Date(y, m, d, 0, 0, 0, 0, time.UTC).Unix()/86400)%n != 0 {
			d--
		}
		return midnight(y, m, d), midnight(y, m, d+n)
	default:
		begin, end := midnight(y, m, d), midnight(y, m, d+1)
		k := at.Sub(begin) / e.D
		return begin.Add(k * e.D), min(begin.Add((k+1)*e.D), end)
	}
}

func (x *slow) number(e *entry.Entry, f string) (*big.Rat, bool) {
	v, ok := e.Get(f)
	if !ok {
		return nil, false
	}
	if d, err := entry.ParseDuration(v); err == nil {
		return big.NewRat(int64(d), 1e9), true
	}
	n, ok := entry.ParseNumber(v)
	if !ok {
		return nil, false
	}
	return n.Rat()
}

func (x *slow) column(c lang.Column, list []*entry.Entry, from, to entry.Instant) string {
	var numbers []*big.Rat
	var texts []string
	sorted := slices.Clone(list)
	slices.SortStableFunc(sorted, func(a, b *entry.Entry) int {
		return cmp.Or(cmp.Compare(a.At, b.At), cmp.Compare(a.Offset, b.Offset))
	})
	for _, e := range sorted {
		if n, ok := x.number(e, c.Field); ok {
			numbers = append(numbers, n)
		}
		if v, ok := e.Get(c.Field); ok {
			texts = append(texts, v)
		}
	}
	inOrder := slices.Clone(numbers)
	slices.SortFunc(inOrder, (*big.Rat).Cmp)
	sum := new(big.Rat)
	for _, n := range numbers {
		sum.Add(sum, n)
	}
	exact := func(r *big.Rat) string { n, _ := r.FloatPrec(); return r.FloatString(n) }
	percentile := func(p int) string {
		for i, n := range inOrder {
			if (i+1)*100 >= p*len(inOrder) {
				return exact(n)
			}
		}
		return ""
	}
	switch c.Fn {
	case "count":
		return fmt.Sprint(len(list))
	case "sum":
		return exact(sum)
	case "avg":
		if len(numbers) == 0 {
			return ""
		}
		return rounded(sum.Quo(sum, new(big.Rat).SetInt64(int64(len(numbers)))), 12)
	case "min":
		return percentile(0)
	case "max":
		return percentile(100)
	case "median":
		return percentile(50)
	case "p90":
		return percentile(90)
	case "p99":
		return percentile(99)
	case "different":
		slices.Sort(texts)
		return fmt.Sprint(len(slices.Compact(texts)))
	case "first":
		if len(texts) == 0 {
			return ""
		}
		return written(texts[0])
	case "last":
		if len(texts) == 0 {
			return ""
		}
		return written(texts[len(texts)-1])
	case "rate":
		return rounded(big.NewRat(int64(len(list))*1e9, int64(to.Sub(from))), 12)
	case "share":
		if len(list) == 0 {
			return ""
		}
		n := int64(0)
		for _, e := range list {
			v, _ := e.Get("n")
			if m, ok := entry.ParseNumber(v); ok {
				if r, _ := m.Rat(); r.Cmp(big.NewRat(3, 1)) > 0 {
					n++
				}
			}
		}
		return rounded(big.NewRat(n, int64(len(list))), 12)
	case "gaps":
		return ""
	}
	panic(c.Fn)
}

// written is a value with its unit worked in: bytes, and seconds.
func written(v string) string {
	return map[string]string{"5kB": "5000", "250ms": "0.25", "1h30m": "5400", "12%": "12"}[v] + strings.Repeat(v,
		map[bool]int{true: 1}[!slices.Contains([]string{"5kB", "250ms", "1h30m", "12%"}, v)])
}

// answer are all rows.
func (x *slow) answer(from, to entry.Instant, bFrom entry.Instant, beside bool) []slowRow {
	q := x.q
	in := func(from, to entry.Instant, key *string, keys map[string]bool) []*entry.Entry {
		var out []*entry.Entry
		for i := range x.all {
			e := &x.all[i]
			v, _ := e.Get("word")
			if v == "" {
				v = "?"
			}
			if e.At < from || e.At >= to || q.Where != nil && !strings.Contains(e.Raw, "open") {
				continue
			}
			if key != nil && v != *key || keys != nil && !keys[v] {
				continue
			}
			out = append(out, e)
		}
		return out
	}
	groups := map[string]bool{}
	collect := func(list []*entry.Entry) {
		for _, e := range list {
			v, _ := e.Get("word")
			if v == "" {
				v = "?"
			}
			groups[v] = true
		}
	}
	collect(in(from, to, nil, nil))
	shift := from.Sub(bFrom)
	if beside {
		collect(in(bFrom, to.Add(-shift), nil, nil))
	}
	var names []string
	for g := range groups {
		names = append(names, g)
	}
	slices.Sort(names)
	if q.New > 0 {
		names = slices.DeleteFunc(
			names,
			func(g string) bool { return len(in(from.Add(-q.New), from, &g, nil)) > 0 },
		)
	}
	total := func(g string) *big.Rat {
		r, _ := new(big.Rat).SetString(x.column(q.Show[0], in(from, to, &g, nil), from, to))
		return r
	}
	before := func(a, b *big.Rat) int {
		switch {
		case a == nil && b == nil:
			return 0
		case a == nil:
			return 1
		case b == nil:
			return -1
		}
		return b.Cmp(a)
	}
	if q.Having != nil {
		names = slices.DeleteFunc(names, func(g string) bool {
			n, _ := new(big.Rat).SetString(x.column(q.Having.Column, in(from, to, &g, nil), from, to))
			bound, _ := q.Having.Value.Number.Rat()
			return n == nil || n.Cmp(bound) <= 0
		})
	}
	rest := map[string]bool{}
	if q.Most != nil {
		slices.SortStableFunc(names, func(a, b string) int {
			va, vb := total(a), total(b)
			if q.Most.Least && va != nil && vb != nil {
				va, vb = vb, va
			}
			return before(va, vb)
		})
		for _, g := range names[min(len(names), q.Most.N):] {
			rest[g] = true
		}
		names = names[:min(len(names), q.Most.N)]
	}
	var periods [][2]entry.Instant
	if q.Every == nil {
		periods = [][2]entry.Instant{{from, to}}
	} else {
		for at := from; at < to; {
			a, b := x.start(at)
			periods = append(periods, [2]entry.Instant{a, b})
			at = b
		}
	}
	var out []slowRow
	for _, p := range periods {
		lo, hi := max(p[0], from), min(p[1], to)
		var rows []slowRow
		row := func(per string, isRest bool, list, besides []*entry.Entry) {
			r := slowRow{at: entry.None, per: per, rest: isRest}
			if q.Every != nil {
				r.at, r.cut = p[0], p[0] < from || p[1] > to
			}
			for _, c := range q.Show {
				r.values = append(r.values, x.column(c, list, lo, hi))
				if beside {
					r.beside = append(r.beside, x.column(c, besides, lo.Add(-shift), hi.Add(-shift)))
				}
			}
			rows = append(rows, r)
		}
		for _, g := range names {
			row(g, false, in(lo, hi, &g, nil), in(lo.Add(-shift), hi.Add(-shift), &g, nil))
		}
		slices.SortStableFunc(rows, func(a, b slowRow) int {
			va, _ := new(big.Rat).SetString(a.values[0])
			vb, _ := new(big.Rat).SetString(b.values[0])
			return cmp.Or(
				before(va, vb),
				strings.Compare(strings.ReplaceAll(a.per, "?", ""), strings.ReplaceAll(b.per, "?", "")),
			)
		})
		if len(rest) > 0 {
			row("", true, in(lo, hi, nil, rest), in(lo.Add(-shift), hi.Add(-shift), nil, rest))
		}
		out = append(out, rows...)
	}
	return out
}

// drawEntries draws entries around an instant, late ones among them.
func drawEntries(t *rapid.T, around entry.Instant, spread time.Duration) []entry.Entry {
	n := rapid.IntRange(0, 40).Draw(t, "entries")
	var out []entry.Entry
	for i := range n {
		at := around.Add(-time.Duration(rapid.Int64Range(-int64(spread)/8, int64(spread)).Draw(t, "age")))
		if rapid.IntRange(0, 3).Draw(t, "whole") == 0 {
			at -= at % entry.Instant(time.Hour)
		}
		e := entry.Entry{Origin: "host-a:/log", Host: "host-a", At: at, Offset: int64(i), Fits: true,
			Raw: rapid.SampledFrom([]string{"open refused", "reopened", "all is well", "open"}).Draw(t, "raw")}
		if w := rapid.SampledFrom([]string{"", "a", "b", "c", "d", "e"}).Draw(t, "word"); w != "" {
			e.Fields = append(e.Fields, entry.Field{Name: "word", Value: w})
		}
		v := rapid.OneOf(rapid.SampledFrom([]string{"", "x", "1", "2.50", "-3", "5kB", "12%", "250ms", "1h30m", "1e3",
			"123456789012345678.5", "0.1", "0.2", "7"}), rapid.StringMatching(`-?[0-9]{1,4}(\.[0-9]{1,3})?`)).
			Draw(t, "n")
		e.Fields = append(e.Fields, entry.Field{Name: "n", Value: v})
		out = append(out, e)
	}
	return out
}

var zones = func() (out []*time.Location) {
	for _, name := range []string{"UTC", "Europe/Dublin", "Asia/Kathmandu", "Australia/Lord_Howe", "America/St_Johns"} {
		z, err := time.LoadLocation(name)
		if err != nil {
			panic(err)
		}
		out = append(out, z)
	}
	return out
}()

// Every number, over any spans, groups and periods, also where clocks are changed, is that of the slow
// evaluator; and parts that are merged are the whole, whatever their cuts and their order.
func TestAnswersAreThoseOfTheSlowEvaluator(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		zone := rapid.SampledFrom(zones).Draw(t, "zone")
		day := rapid.SampledFrom([]string{"2026-03-29", "2026-10-25", "2026-10-04",
			"2026-04-05", "2026-11-01", "2026-06-30",
			"2026-12-31"}).
			Draw(t, "day")
		noon, _ := time.ParseInLocation(time.DateOnly, day, zone)
		lamp := entry.Of(noon).Add(time.Duration(rapid.Int64Range(0, int64(40*time.Hour)).Draw(t, "lamp")))
		lamp -= lamp % entry.Instant(time.Millisecond)
		var b strings.Builder
		if rapid.Bool().Draw(t, "where") {
			b.WriteString("where /open/ ")
		}
		cols := rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"count", "sum(n)", "avg(n)", "min(n)",
			"max(n)", "median(n)",
			"p90(n)", "p99(n)", "different(n)", "different(word)", "first(word)", "last(word)", "rate",
			"share(n > 3)"}), 1, 4,
			rapid.ID).
			Draw(t, "columns")
		if strings.HasPrefix(cols[0], "first") || strings.HasPrefix(cols[0], "last") {
			cols = append([]string{"rate"}, slices.DeleteFunc(cols, func(s string) bool { return s == "rate" })...)
		}
		b.WriteString("show " + strings.Join(cols, ", ") + " per word ")
		every := rapid.SampledFrom([]string{"", "10m", "7h", "1h", "24h", "3d", "week", "month", "90m"}).
			Draw(t, "every")
		over := rapid.SampledFrom([]time.Duration{3 * time.Hour, 24 * time.Hour, 50 * time.Hour}).Draw(t, "over")
		if every != "" {
			b.WriteString("every " + every + " ")
		}
		fmt.Fprintf(&b, "over %s ", entry.Span(over))
		beside := every != "24h" && every != "week" && every != "month" && every != "3d" && every != "7h" &&
			zone == zones[0] &&
			rapid.Bool().Draw(t, "beside")
		if beside {
			b.WriteString("beside 3h ago ")
		}
		if rapid.IntRange(0, 2).Draw(t, "having") == 0 {
			b.WriteString("having count > 1 ")
		}
		if rapid.Bool().Draw(t, "most") {
			b.WriteString(rapid.SampledFrom([]string{"most 2 ", "least 3 ", "most 1 "}).Draw(t, "which"))
		}
		if rapid.IntRange(0, 3).Draw(t, "new") == 0 {
			b.WriteString("new since 5h ago ")
		}
		s, ds := lang.Check([]*lang.File{lang.ParseQuestion("q", b.String())}, lang.Env{})
		require.False(t, lang.Errors(ds), "%s: %v", b.String(), ds)
		q := s.Ask(lang.Typed)
		p, err := New(q, Moment{Lamp: lamp, Zone: zone})
		require.NoError(t, err)
		all := drawEntries(t, lamp, over+6*time.Hour)

		x := &slow{q: q, zone: zone, all: all, lamp: lamp}
		bFrom := p.Span.From.Add(-3 * time.Hour)
		want := x.answer(p.Span.From, p.Span.To, bFrom, beside)

		order := rapid.Permutation(all).Draw(t, "order")
		whole := NewAcc(p)
		for len(order) > 0 {
			n := rapid.IntRange(1, len(order)).Draw(t, "cut")
			part := NewAcc(p)
			for i := range order[:n] {
				part.Add(&order[i], Place{Offset: order[i].Offset}, nil)
			}
			if rapid.Bool().Draw(t, "elsewhere") { // another machine has added it up
				sent, err := part.Encode()
				require.NoError(t, err)
				require.NoError(t, whole.Absorb(sent))
			} else {
				whole.Merge(part)
			}
			whole.Answer(Unseen{Kept: entry.None}) // at any moment
			order = order[n:]
		}
		var got []slowRow
		for r := range whole.Answer(Unseen{Kept: entry.None}).Rows() {
			g := slowRow{at: r.At, cut: r.Cut, rest: r.Rest}
			if !r.Rest {
				g.per = Written(r.Per[0])
			}
			for _, v := range r.Values {
				g.values = append(g.values, v.Text)
			}
			for _, v := range r.Beside {
				g.beside = append(g.beside, v.Text)
			}
			got = append(got, g)
		}
		require.Equal(t, fmt.Sprint(len(want)), fmt.Sprint(len(got)), "%s\nwant %v\ngot  %v", b.String(), want, got)
		for i := range want {
			require.Equal(
				t,
				want[i].String(),
				got[i].String(),
				"%s at %s in %s\nwant %v\ngot  %v",
				b.String(),
				lamp,
				zone,
				want,
				got,
			)
		}
	})
}
