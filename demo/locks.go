package demo

import (
	"math"
	"time"
)

// weeks is how far back the book of the locks goes.
const weeks = 3 * 7 * 24 * time.Hour

// bookClosed is when nothing was written into the book: the lock house had no power.
var bookClosed = spell{-4*24*time.Hour - 5*time.Hour, -4*24*time.Hour - 90*minute}

// locks lets boats pass the locks, and has each passage written into a book: by day more of them than at
// night, on Sundays few, with the tide; one gate refuses more than the others, one grows slower by the
// week.
func (h *Harbour) locks() {
	r := h.rng("locks")
	f := h.log("locks/book.log", 384<<10, false)
	f.keep = 12
	gates := []struct {
		name   string
		share  float64 // of the passages
		took   float64 // seconds
		refuse float64 // share
	}{{"gate-a1", 0.34, 74, 0.02}, {"gate-a2", 0.27, 78, 0.02}, {"gate-b1", 0.21, 71, 0.025},
		{"gate-b2", 0.12, 83, 0.11}, {"gate-c1", 0.06, 92, 0.02}}
	h.add(-weeks, func(at time.Duration) time.Duration {
		t := h.when(at).UTC()
		hour := float64(t.Hour()) + float64(t.Minute())/60
		busy := 0.15 + math.Exp(-math.Pow((hour-9)/3.2, 2)) + 0.8*math.Exp(-math.Pow((hour-17)/2.6, 2))
		if t.Weekday() == time.Sunday {
			busy *= 0.4
		}
		busy *= 1 + 0.25*math.Sin(2*math.Pi*float64(at)/float64(12*time.Hour+25*time.Minute))
		next := time.Duration(float64(55*time.Second) / busy * (0.3 + 1.4*r.Float64()))
		n := r.Float64()
		g := gates[0]
		for _, x := range gates {
			g = x
			if n -= x.share; n < 0 {
				break
			}
		}
		took := g.took * (0.85 + 0.3*r.Float64())
		if g.name == "gate-c1" { // its seals wear
			took *= 1 + 0.35*(1+float64(at)/float64(weeks))
		}
		if r.IntN(60) == 0 {
			took *= 1.8
		}
		wait := 40 + 500*busy*r.Float64()*r.Float64()
		result := "passed"
		if r.Float64() < g.refuse {
			result, took = "refused", took*0.2
		}
		ship, keel := 1+r.IntN(40), 0.4+2.6*r.Float64()
		if bookClosed.holds(at) {
			return next
		}
		f.line(
			"time=%s gate=%s ship=gull-%02d wait=%.0fs took=%.1fs keel=%.2f result=%s",
			t.Format("2006-01-02T15:04:05.000Z"),
			g.name,
			ship,
			wait,
			took,
			keel,
			result,
		)
		return next
	})
}
