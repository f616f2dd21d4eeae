package demo

import (
	"fmt"
	"time"
)

// quay sets going what does not write as one would wish.
func (h *Harbour) quay(begin time.Duration) {
	r := h.rng("quay")
	shop := h.log("tickets/shop.log", 256<<10, false)
	tickets := func(at time.Duration, level, text string) {
		shop.line("%s %s %s", h.when(at).Format("2006-01-02 15:04:05"), level, text)
	}
	h.add(begin, func(at time.Duration) time.Duration {
		tickets(at, "INFO", fmt.Sprintf("sold %d tickets for gull-%02d", 1+r.IntN(6), 1+r.IntN(20)))
		for _, s := range rushes {
			if s.holds(at) {
				return 60 * time.Millisecond
			}
		}
		return jitter(r, 5*time.Second)
	})
	for _, s := range lost {
		h.add(s.from, func(at time.Duration) time.Duration {
			if at >= s.to {
				tickets(at, "INFO", "seats are back, 260 of 260")
				return 0
			}
			tickets(at, "ERROR", fmt.Sprintf("seat %d is lost\n  at harbour.tickets.Seats.find(Seats:88)\n  at "+
				"harbour.tickets.Desk.sell(Desk:%d)\n  because: no answer from berth %d",
				1+r.IntN(260), 20+r.IntN(30), 1+r.IntN(9)))
			return jitter(r, 70*time.Second)
		})
	}
	h.add(begin, func(at time.Duration) time.Duration { // a file a day
		t := h.when(at)
		h.log("weather/weather-"+t.Format("2006-01-02")+".log", 1<<30, false).
			line("%s mole %d degrees, %d hPa", t.Format(time.RFC3339), 2+r.IntN(5), 1001+r.IntN(9))
		return jitter(r, 30*time.Second)
	})
	crane := h.log("cranes/crane-2.log", 128<<10, false)
	kept := 0
	h.add(begin, func(at time.Duration) time.Duration { // it keeps a minute's lines back
		kept++
		crane.kept = kept%12 != 0
		crane.line("%s crane-2 hoist[77]: load %d t, boom %d degrees", h.when(at).Format("2006-01-02 15:04:05.000"),
			r.IntN(30), r.IntN(80))
		return jitter(r, 4*time.Second)
	})
	for n, off := range map[int]time.Duration{7: 11 * time.Minute, 8: -25 * time.Minute} { // their clocks are wrong
		r := h.rng(fmt.Sprint("buoy", n))
		buoy := h.log(fmt.Sprintf("buoys/buoy-%d.log", n), 64<<10, false)
		h.add(begin+time.Duration(n), func(at time.Duration) time.Duration {
			buoy.line("%s buoy%d swell %.1f m", h.when(at).Add(off).Format(time.RFC3339), n, 0.5+r.Float64())
			return jitter(r, 14*time.Second)
		})
	}
}

// When the shop is busy, and when it loses seats.
var (
	rushes = []spell{{-48 * minute, -45 * minute}, {25 * minute, 29 * minute}}
	lost   = []spell{{-70 * minute, -64 * minute}, {52 * minute, 61 * minute}}
)
