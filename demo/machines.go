package demo

import (
	"fmt"
	"math"
	"math/rand/v2"
	"time"
)

// spell is a stretch of the story in which something is wrong.
type spell struct{ from, to time.Duration }

func (s spell) holds(at time.Duration) bool { return at >= s.from && at < s.to }

// jitter draws a time around d.
func jitter(r *rand.Rand, d time.Duration) time.Duration {
	return time.Duration(float64(d) * (0.5 + r.Float64()))
}

// pick draws one of the words.
func pick[T any](r *rand.Rand, words ...T) T { return words[r.IntN(len(words))] }

// machines sets the everyday life of the harbour going.
func (h *Harbour) machines() {
	begin := -h.o.Past
	for i, host := range []string{"pump-01", "pump-02", "pump-03"} {
		r := h.rng(host)
		f := h.log("pumps/"+host+".log", 192<<10, false)
		pid := 300 + 59*i
		h.add(begin, func(at time.Duration) time.Duration {
			pump := 1 + r.IntN(8)
			text := fmt.Sprintf("pump %d: pressure %.1f bar", pump, 2+r.Float64()*0.5)
			switch n := r.IntN(60); {
			case n == 0:
				text = fmt.Sprintf("pump %d: self test passed", pump)
			case n < 3:
				text = fmt.Sprintf("pump %d: valve %d%s answered late (%d ms)", pump, pump, pick(r, "a", "b"),
					400+r.IntN(900))
			case n < 9:
				text = fmt.Sprintf("pump %d: flow %d l/min, %d rpm", pump, 380+r.IntN(90), 1420+r.IntN(40))
			case n == 9:
				text = fmt.Sprintf("pump house %d: door %s", 1+i, pick(r, "opened", "closed"))
			}
			h.pump(f, at, host, pid, text)
			return jitter(r, 2*time.Second)
		})
		h.add(begin+jitter(r, time.Hour), func(at time.Duration) time.Duration {
			h.pump(f, at, host, pid, fmt.Sprintf("pump %d: pressure low: self test ok", 1+r.IntN(8)))
			return 50 * time.Minute
		})
	}
	h.gates(begin)
	h.stores(begin)
	h.ferries(begin)
	h.office(begin)
	h.mast(begin)
	h.water(begin)
	h.quay(begin)
	h.control(begin)
	h.locks()
}

func (h *Harbour) pump(f *logFile, at time.Duration, host string, pid int, text string) {
	f.line("%s %s pumpd[%d]: %s", h.when(at).Format("2006-01-02 15:04:05.000"), host, pid, text)
}

func (h *Harbour) gate(at time.Duration, gate, level, text string) {
	h.log("gates/gates.log", 96<<10, true).line("%s [%s] %s %s", h.when(at).Format(time.RFC3339), gate, level, text)
}

func (h *Harbour) gates(begin time.Duration) {
	r := h.rng("gates")
	h.add(begin, func(at time.Duration) time.Duration {
		gate := pick(r, "gate-a1", "gate-a2", "gate-b1", "gate-b2")
		switch r.IntN(6) {
		case 0:
			h.gate(at, gate, "INFO", fmt.Sprintf("closed in %d s", 60+r.IntN(30)))
		case 1:
			h.gate(at, gate, "WARN", fmt.Sprintf("hydraulic oil at %d degrees", 58+r.IntN(9)))
		default:
			h.gate(at, gate, "INFO", fmt.Sprintf("levels differ by %.2f m", r.Float64()*0.4))
		}
		return jitter(r, 4*time.Second)
	})
}

func (h *Harbour) store(at time.Duration, store string, bay int, temp float64, door string) {
	h.log("cold/"+store+".log", 160<<10, false).line("time=%s store=%s bay=%d temp=%.1f door=%s",
		h.when(at).UTC().Format(time.RFC3339), store, bay, temp, door)
}

// warm are the spells in which a bay is warm, by store and bay.
func (h *Harbour) stores(begin time.Duration) {
	for _, store := range []string{"quay-1", "quay-2"} {
		r := h.rng(store)
		for bay := 1; bay <= 6; bay++ {
			h.add(begin+jitter(r, 20*time.Second), func(at time.Duration) time.Duration {
				temp := -19 + r.Float64()*1.5
				door := "shut"
				if r.IntN(40) == 0 {
					temp, door = temp+7, "open"
				}
				for _, s := range warmSpells[fmt.Sprintf("%s %d", store, bay)] {
					if s.holds(at) {
						grown := math.Min(1, float64(at-s.from)/float64(6*time.Minute))
						temp, door = -16.2+grown*4+r.Float64(), "shut"
					}
				}
				h.store(at, store, bay, temp, door)
				return jitter(r, 20*time.Second)
			})
		}
	}
}

func (h *Harbour) desk(at time.Duration, desk int, text string) {
	h.log(fmt.Sprintf("ferry/desk-%d.log", desk), 128<<10, false).line("%s desk-%d deskd[%d]: %s",
		h.when(at).Format("Jan _2 15:04:05"), desk, 90+desk, text)
}

func (h *Harbour) ferries(begin time.Duration) {
	for desk := 1; desk <= 2; desk++ {
		r := h.rng(fmt.Sprint("desk", desk))
		h.add(begin, func(at time.Duration) time.Duration {
			switch r.IntN(5) {
			case 0:
				h.desk(at, desk, fmt.Sprintf("boarding gull-%02d: %d of 260 places taken", 1+r.IntN(20),
					40+r.IntN(220)))
			case 1:
				h.desk(at, desk, fmt.Sprintf("gate held, tide %.1f m", 1+3*r.Float64()))
			default:
				h.desk(at, desk, fmt.Sprintf("card reader %d: ticket %06d accepted", 1+r.IntN(6), r.IntN(1000000)))
			}
			return jitter(r, 3*time.Second)
		})
	}
}

// office is the harbour office's desk: its log may be written, and not be read.
func (h *Harbour) office(begin time.Duration) {
	r := h.rng("office")
	f := h.log("ferry/desk-3.log", 128<<10, false)
	f.mode = 0o200
	h.add(begin, func(at time.Duration) time.Duration {
		h.desk(at, 3, fmt.Sprintf("berth %d is let to gull-%02d", 1+r.IntN(9), 1+r.IntN(20)))
		return jitter(r, 40*time.Second)
	})
}

func (h *Harbour) mastLine(at time.Duration, text string) {
	h.log("mast/mast.log", 128<<10, false).line("%s %s", h.when(at).Format("02.01.2006 15:04:05"), text)
}

func (h *Harbour) mast(begin time.Duration) {
	r := h.rng("mast")
	h.add(begin, func(at time.Duration) time.Duration {
		gust := 18 + r.IntN(12)
		for _, s := range storms {
			if s.holds(at) {
				gust = 46 + r.IntN(16)
			}
		}
		h.mastLine(at, fmt.Sprintf("wind: gust %d kn from %03d", gust, 270+r.IntN(40)))
		return jitter(r, 20*time.Second)
	})
	h.add(begin, func(at time.Duration) time.Duration {
		h.mastLine(at, fmt.Sprintf("beacon: lamp %d.%d A, turning", 11+r.IntN(2), r.IntN(10)))
		return jitter(r, 45*time.Second)
	})
}

// tide is the water's height in metres at a moment.
func (h *Harbour) tide(at time.Duration) float64 {
	return 3.1 + 1.9*math.Sin(2*math.Pi*float64(at)/float64(12*time.Hour+25*time.Minute))
}

func (h *Harbour) water(begin time.Duration) {
	for i, side := range []string{"north", "south", "outer"} {
		r := h.rng(side)
		f := h.log("gauges/"+side+"/level.log", 96<<10, false)
		h.add(begin, func(at time.Duration) time.Duration {
			for _, s := range stills {
				if i == 1 && s.holds(at) {
					return 30 * time.Second
				}
			}
			f.absent(i == 2 && away.holds(at)) // its card comes loose in a swell
			f.line("%s level %.2f m ok", h.when(at).Format("2006-01-02T15:04:05-07:00"), h.tide(at)+0.1*float64(i)+
				0.02*r.Float64())
			return 30 * time.Second
		})
	}
	r := h.rng("barge")
	f := h.log("barges/barge-9.log", 64<<10, false)
	h.add(begin, func(at time.Duration) time.Duration {
		gone := false
		for _, s := range voyages {
			gone = gone || s.holds(at)
		}
		f.absent(gone) // the barge casts off, and its log goes with it
		t := h.when(at)
		f.line("%d.%03d bilge %s", t.Unix(), t.Nanosecond()/1e6,
			pick(r, "pump idle", "level 2 cm", "level 3 cm", "hatch shut"))
		return jitter(r, 15*time.Second)
	})
}

const minute = time.Minute

// What the everyday machines look at: when which of them is unwell.
var (
	warmSpells = map[string][]spell{
		"quay-2 4": {{-88 * minute, -53 * minute}, {-14 * minute, 20 * minute}, {150 * minute, 190 * minute}},
		"quay-1 2": {{65 * minute, 100 * minute}},
	}
	storms  = []spell{{-165 * minute, -118 * minute}, {35 * minute, 80 * minute}}
	stills  = []spell{{-25 * minute, 6 * minute}, {95 * minute, 120 * minute}}
	away    = spell{30 * time.Second, 6 * minute}
	voyages = []spell{{40 * time.Second, 9 * minute}, {70 * minute, 85 * minute}}
)

// incidents sets going what goes wrong: some of it fixed, so that the first
// screen tells a story, and then more, drawn from the seed.
func (h *Harbour) incidents() {
	h.labour("pump-01", 2, spell{-81 * minute, -62 * minute}, 90*time.Second, false)
	h.labour("pump-03", 7, spell{-77 * minute, -60 * minute}, 80*time.Second, true)
	h.labour("pump-03", 7, spell{-36 * minute, 14 * minute}, 40*time.Second, true)
	h.restart("pump-02", 4, -104*minute)
	h.refuse("gate-a1", spell{-19 * minute, 9 * minute})
	h.deny("gate-b2", spell{-56 * minute, -42 * minute})
	h.queueAt("gull-02", spell{-31 * minute, -21 * minute}, 9)
	h.queueAt("gull-14", spell{-7 * minute, 3 * minute}, 3)
	h.dark(spell{-42 * minute, -39 * minute})
	h.jump(-2 * minute)
	h.bilge(spell{-130 * minute, -108 * minute})
	r := h.rng("incidents")
	for at := 12 * minute; at < 48*time.Hour; at += jitter(r, 11*minute) {
		long := spell{at, at + jitter(r, 15*minute)}
		switch r.IntN(7) {
		case 0, 1:
			h.labour(pick(r, "pump-01", "pump-02", "pump-03"), 1+r.IntN(8), long, jitter(r, 50*time.Second),
				r.IntN(4) > 0)
		case 2:
			h.refuse(pick(r, "gate-a1", "gate-a2", "gate-b1"), long)
		case 3:
			h.deny(pick(r, "gate-a2", "gate-b2"), long)
		case 4:
			h.queueAt(fmt.Sprintf("gull-%02d", 1+r.IntN(20)), long, 4+r.IntN(9))
		case 5:
			h.jump(at)
			h.jump(at + 40*time.Second)
			h.jump(at + 90*time.Second)
		case 6:
			h.dark(spell{at, at + jitter(r, 4*minute)})
		}
	}
}

// labour is a pump that draws too little: its hits come faster and faster.
func (h *Harbour) labour(host string, pump int, s spell, every time.Duration, recovers bool) {
	r := h.rng(fmt.Sprint(host, pump, s.from))
	f := h.log("pumps/"+host+".log", 192<<10, false)
	pid := 300 + 59*int(host[len(host)-1]-'1')
	h.add(s.from, func(at time.Duration) time.Duration {
		if at >= s.to {
			if recovers {
				h.pump(f, at, host, pid, fmt.Sprintf("pump %d: pressure %snormal", pump, pick(r, "", "back to ")))
			}
			return 0
		}
		h.pump(f, at, host, pid, fmt.Sprintf("pump %d: pressure low (%.1f bar, want 2.0)", pump, 1+r.Float64()*0.5))
		share := float64(at-s.from) / float64(s.to-s.from)
		return jitter(r, time.Duration(float64(every)*(1.3-share)))
	})
}

func (h *Harbour) restart(host string, pump int, at time.Duration) {
	f := h.log("pumps/"+host+".log", 192<<10, false)
	h.add(at, func(at time.Duration) time.Duration {
		h.pump(f, at, host, 359, fmt.Sprintf("pump %d: restarted after overload trip", pump))
		return 0
	})
}

func (h *Harbour) refuse(gate string, s spell) {
	r := h.rng(fmt.Sprint(gate, s.from))
	h.add(s.from, func(at time.Duration) time.Duration {
		if at >= s.to {
			h.gate(at, gate, "INFO", fmt.Sprintf("opened in %d s", 70+r.IntN(30)))
			return 0
		}
		h.gate(at, gate, "ERROR", fmt.Sprintf("open refused: levels differ by %.2f m", 0.25+r.Float64()*0.2))
		return jitter(r, 100*time.Second)
	})
}

func (h *Harbour) deny(gate string, s spell) {
	r := h.rng(fmt.Sprint("deny", gate, s.from))
	h.add(s.from, func(at time.Duration) time.Duration {
		if at >= s.to {
			h.gate(at, gate, "INFO", fmt.Sprintf("permit granted to gull-%02d", 1+r.IntN(20)))
			return 0
		}
		h.gate(at, gate, "WARN", "permit denied: "+pick(r, "no pilot named", "draught over 4.2 m", "papers expired"))
		return jitter(r, 55*time.Second)
	})
}

func (h *Harbour) queueAt(boat string, s spell, n int) {
	r := h.rng(boat)
	every := (s.to - s.from) / time.Duration(n)
	h.add(s.from, func(at time.Duration) time.Duration {
		if at >= s.to {
			h.desk(at, 1, fmt.Sprintf("boarding %s complete: %d of 260 places taken", boat, 150+r.IntN(110)))
			return 0
		}
		h.desk(at, 1+r.IntN(2), fmt.Sprintf("card reader %d: refused %s (%s)", 1+r.IntN(6), boat,
			pick(r, "no ticket", "expired", "other boat")))
		return every
	})
}

func (h *Harbour) dark(s spell) {
	r := h.rng(fmt.Sprint("dark", s.from))
	h.add(s.from, func(at time.Duration) time.Duration {
		if at >= s.to {
			h.mastLine(at, "beacon: lamp lit, on reserve")
			return 0
		}
		h.mastLine(at, "beacon: lamp "+pick(r, "current", "voltage")+" lost")
		return 70 * time.Second
	})
}

func (h *Harbour) jump(at time.Duration) {
	r := h.rng(fmt.Sprint("jump", at))
	h.add(at, func(at time.Duration) time.Duration {
		h.mastLine(at, fmt.Sprintf("vane: bearing jumps by %d", 22+r.IntN(40)))
		return 0
	})
}

func (h *Harbour) bilge(s spell) {
	f := h.log("barges/barge-9.log", 64<<10, false)
	h.add(s.from, func(at time.Duration) time.Duration {
		t := h.when(at)
		if at >= s.to {
			f.line("%d.%03d bilge dry, pump off", t.Unix(), t.Nanosecond()/1e6)
			return 0
		}
		f.line("%d.%03d bilge alarm", t.Unix(), t.Nanosecond()/1e6)
		return 4 * time.Minute
	})
}
