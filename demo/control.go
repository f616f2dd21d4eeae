package demo

import (
	"context"
	"encoding/xml"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"dimlantern/intake/channel"
)

// The channels of Gullhaven's control system.
const (
	operational = "Harbour-Control/Operational"
	access      = "Harbour-Control/Access"
	fenders     = "Gullhaven-Berths/Fenders"
	valves      = "Gullhaven-Fuel/Valves"
)

// Control is the socket at which the control system gives its channels.
func (h *Harbour) Control() string { return filepath.Join(h.Logs(), "control.sock") }

// ServeControl gives the channels of the control system to who asks, until the
// context ends.
func (h *Harbour) ServeControl(ctx context.Context) error {
	if err := os.MkdirAll(h.Logs(), 0o755); err != nil {
		return err
	}
	l, err := channel.ListenAt(h.Control())
	if err != nil {
		return fmt.Errorf("the control system of Gullhaven cannot be asked: %w", err)
	}
	return h.host.Serve(ctx, l)
}

// happening is an event of the control system.
type happening struct {
	channel, id string
	level       int // as the published event XML counts: 2 is an error, 3 a warning, 4 information
	task        string
	account     string // its name; "" where nobody did it
	data        [][2]string
	text        string
}

// event writes an event into its channel.
func (h *Harbour) event(at time.Duration, e happening) {
	when := h.when(at)
	h.host.Add(e.channel, when, func(record int64) string { return e.xml(h.host.Computer, when, record) })
}

func (e happening) xml(computer string, at time.Time, record int64) string {
	var b strings.Builder
	provider, _, _ := strings.Cut(e.channel, "/")
	user := ""
	if e.account != "" {
		user = fmt.Sprintf("G-1-%d", 1000+len(e.account)*7)
	}
	fmt.Fprintf(&b, `<Event><System><Provider Name="%s"/><EventID>%s</EventID><Level>%d</Level><Task>%s</Task>`,
		provider, e.id, e.level, e.task)
	fmt.Fprintf(&b, `<TimeCreated SystemTime="%s"/><EventRecordID>%d</EventRecordID><Channel>%s</Channel>`+
		`<Computer>%s</Computer>`,
		at.UTC().Format("2006-01-02T15:04:05.000000Z"), record, e.channel, computer)
	if user != "" {
		fmt.Fprintf(&b, `<Security UserID="%s"/>`, user)
	}
	b.WriteString("</System><EventData>")
	if e.account != "" {
		e.data = append([][2]string{{"Account", e.account}}, e.data...)
	}
	for _, d := range e.data {
		fmt.Fprintf(&b, `<Data Name="%s">`, d[0])
		xml.EscapeText(&b, []byte(d[1]))
		b.WriteString("</Data>")
	}
	b.WriteString("</EventData><RenderingInfo><Message>")
	xml.EscapeText(&b, []byte(e.text))
	b.WriteString("</Message></RenderingInfo></Event>")
	return b.String()
}

// control sets the control system going.
func (h *Harbour) control(begin time.Duration) {
	h.host = channel.NewHost("lock-control")
	h.host.Open(operational, 20_000)
	h.host.Open(access, 20_000)
	h.host.Open(fenders, 5_000)
	h.host.Open(valves, 5_000)
	h.host.SwitchOff(valves)
	r := h.rng("control")
	crew := []string{"mira", "tolan", "night-crew", "pilot-2", "dredger", "office"}
	h.add(begin, func(at time.Duration) time.Duration {
		n := 1 + r.IntN(6)
		h.event(at, happening{operational, "1020", 4, "Scan", "",
			[][2]string{{"Controller", fmt.Sprint(n)}, {"Took", fmt.Sprint(18 + r.IntN(40))}},
			fmt.Sprintf("Controller %d has scanned its gates. Nothing needs to be done.", n)})
		return jitter(r, 12*time.Second)
	})
	h.add(begin, func(at time.Duration) time.Duration {
		who := crew[r.IntN(len(crew))]
		e := happening{access, "5100", 4, "Sign-in", who, [][2]string{{"Panel", fmt.Sprint(1 + r.IntN(4))}},
			"The account " + who + " has signed in. This is written whenever someone signs in at a panel."}
		if r.IntN(9) == 0 {
			e.id, e.level, e.text = "5120", 3, "A sign-in of "+who+" was refused. The words did not agree."
		}
		h.event(at, e)
		return jitter(r, 25*time.Second)
	})
	h.add(begin, func(at time.Duration) time.Duration {
		h.event(at, happening{fenders, "301", 4, "Load", "",
			[][2]string{{"Berth", fmt.Sprint(1 + r.IntN(9))}, {"Kilonewtons", fmt.Sprint(40 + r.IntN(300))}},
			"Fender load was measured."})
		return jitter(r, 40*time.Second)
	})
	for _, s := range forced {
		h.add(s.from, func(at time.Duration) time.Duration {
			who, panel := "night-crew", [2]string{"Panel", "4"}
			if at >= s.to {
				h.event(at, happening{access, "5121", 2, "Sign-in", who, [][2]string{panel},
					"The account night-crew has signed in after several refusals."})
				return 0
			}
			h.event(at, happening{access, "5120", 3, "Sign-in", who, [][2]string{panel},
				"A sign-in of night-crew was refused. The words did not agree."})
			return jitter(r, 30*time.Second)
		})
	}
	for i, s := range unplaced {
		gate := [2]string{"Gate", fmt.Sprint(3 - i%2)}
		h.add(s.from, func(at time.Duration) time.Duration {
			if at >= s.to {
				h.event(at, happening{operational, "2311", 4, "Gate", "", [][2]string{gate}, "The position of gate " +
					gate[1] + " is known again."})
				return 0
			}
			h.event(at, happening{operational, "2310", 2, "Gate", "", [][2]string{gate, {"Sensor", "upper"}},
				"The position of gate " + gate[1] + " is not known. Move it by hand until the sensor is back."})
			return max(s.to-at, time.Second)
		})
	}
}

// When somebody guesses until a sign-in works, and when a gate does not know where it
// stands.
var (
	forced   = []spell{{-35 * minute, -31 * minute}, {14 * minute, 18 * minute}}
	unplaced = []spell{{-95 * minute, -83 * minute}, {-22 * minute, -17 * minute},
		{40 * time.Second, 100 * time.Second}, {33 * minute, 41 * minute}}
)
