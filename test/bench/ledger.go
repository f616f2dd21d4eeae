package main

import (
	"bufio"
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sync"
	"time"

	"dimlantern/core/ask"
	"dimlantern/core/entry"
	"dimlantern/folder"
	"dimlantern/intake/reread"
	"dimlantern/query"
)

var (
	onlyLedger = flag.Bool("only-ledger", false, "measure questions alone")
	ledgerMiB  = flag.Int("ledger-mib", 1024, "size of the log that is asked, in MiB")
	hourGB     = flag.Int("hour-gb", 10, "size of the log of which an hour is asked, in GB; 0 leaves it out")
)

const ledgerSettings = `
source log { files %q
  layout lock }
layout lock {
  pattern /^(?<at>\S+ \S+) (?<host>\S+) (?<program>[\w-]+)\[(?<pid>\d+)\]: (?<level>[A-Z]+) (?<text>.*)$/
  time at like "2026-11-24 05:32:28.114"
}
`

// ledgerLog writes a log of so many bytes in order of time that ends now, and of which one line in 500
// has the words "open refused" and one in 20 "moved slowly".
func ledgerLog(path string, size int64, step time.Duration, json bool) (lines int64, begin time.Time) {
	f, err := os.Create(path)
	must(err)
	w := bufio.NewWriterSize(f, 1<<20)
	r := rand.New(rand.NewPCG(5, 6))
	texts := make([]string, 4096)
	for i := range texts {
		switch n := r.IntN(1000); {
		case n < 2:
			texts[i] = fmt.Sprintf("ERROR open refused: levels differ by %.2f m", r.Float64())
		case n < 52:
			texts[i] = fmt.Sprintf("NOTICE sluice moved slowly, %d ms more than usual", r.IntN(900))
		default:
			texts[i] = fmt.Sprintf(
				"INFO ship %d passed in %d ms, keel %d cm above the sill",
				r.IntN(9999),
				r.IntN(900),
				r.IntN(300),
			)
		}
	}
	about := size / 104
	begin = time.Now().UTC().Add(-time.Duration(about) * step).Truncate(time.Second)
	at, second := begin, ""
	last := int64(-1)
	for written := int64(0); written < size; lines++ {
		if s := at.Unix(); s != last {
			last, second = s, at.Format("2006-01-02 15:04:05")
			if json {
				second = at.Format("2006-01-02T15:04:05")
			}
		}
		text := texts[r.IntN(len(texts))]
		ms := at.Nanosecond() / 1e6
		form := "%s.%03d gate-%c%d lockd[%d]: %s\n"
		args := []any{second, ms, 'a' + rune(r.IntN(6)), r.IntN(4), 1000 + r.IntN(50), text}
		if json {
			form = `{"at":"%s.%03dZ","host":"gate-%c%d","took":%d,"msg":"%s"}` + "\n"
			args[4] = r.IntN(9000)
		}
		n, err := fmt.Fprintf(w, form, args...)
		must(err)
		written += int64(n)
		at = at.Add(step)
	}
	must(w.Flush())
	must(f.Sync()) // else it is written while questions are measured
	must(f.Close())
	return lines, begin
}

// asking is a question of one file.
func asking(settings, path, text string, cores int, notes *reread.Notes) *query.Asking {
	s, q, ds := query.Typed([]folder.Text{{Name: "bench", Body: settings}}, text)
	if q == nil {
		must(fmt.Errorf("%v", ds))
	}
	p, err := ask.New(q, ask.Moment{Lamp: entry.Of(time.Now()), Zone: time.UTC, Alone: true})
	must(err)
	return &query.Asking{
		Settings: s,
		Plan:     p,
		Notes:    notes,
		Cores:    cores,
		Logs: []reread.Log{{Name: "host-a:" + path,
			Series: path, Only: path, Host: "host-a", Source: s.Sources[0]}},
	}
}

// asked is a question by itself, on so many cores; what it gave goes to a.
func asked(settings, path, text string, cores int, a **query.Asked) func() {
	notes := reread.NewNotes("")
	return func() {
		defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(cores))
		var err error
		*a, err = asking(settings, path, text, cores, notes).Answer(context.Background())
		must(err)
	}
}

// program is how one is run; nothing where it is not there.
func program(name string, args ...string) []func() {
	if _, err := exec.LookPath(name); err != nil {
		return nil
	}
	return []func(){func() { exec.Command(name, args...).Run() }}
}

// inTurn measures one after the other, again and again, so that all meet the same machine: how fast it is
// may change within seconds. The fastest run of each counts.
func inTurn(list ...func()) []time.Duration {
	out := make([]time.Duration, len(list))
	for n := range *repeats {
		for i, x := range list {
			start := time.Now()
			x()
			if d := time.Since(start); n == 0 || d < out[i] {
				out[i] = d
			}
		}
	}
	return out
}

// ledgers measures questions against the search, and against programs written by hand.
func ledgers() {
	dir, err := os.MkdirTemp("", "dl-ledger-")
	must(err)
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "log")
	settings := fmt.Sprintf(ledgerSettings, path)
	size := int64(*ledgerMiB) << 20
	lines, _ := ledgerLog(path, size, 5*time.Millisecond, false)
	fmt.Printf(
		"\nquestions to %d MiB of plain log, %d lines; the fastest of %d runs\n",
		*ledgerMiB,
		lines,
		*repeats,
	)
	var a *query.Asked
	for _, x := range [][2]string{{"open refused", "1.2, 0.2 % of the lines"}, {"moved slowly", "1.6, 5 %"}} {
		question := asked(settings, path, fmt.Sprintf("where %q show count every 10m over 28d", x[0]), 1, &a)
		took := inTurn(append([]func(){question}, program("rg", "-j1", "-c", x[0], path)...)...)
		fmt.Printf("count of a phrase every 10 minutes  %6.0f ms, %d fit\n", ms(took[0]), a.Fit)
		if len(took) > 1 {
			fmt.Printf("    against rg -j1 -c      %6.0f ms   %.2f × (aim %s)\n", ms(took[1]),
				ratio(took[0], took[1]), x[1])
		}
	}
	const per = "show count per host over 28d"
	took := inTurn(append([]func(){asked(settings, path, per, 1, &a), asked(settings, path, per, 2, &a)},
		program("mawk", `{n[$3]++} END {for (k in n) print k, n[k]}`, path)...)...)
	fmt.Printf("count per field, one core  %6.0f ms; two cores %.0f ms, %.2f × (aim 0.6)\n", ms(took[0]), ms(took[1]),
		ratio(took[1], took[0]))
	if len(took) > 2 {
		fmt.Printf("    against mawk by hand   %6.0f ms   %.2f × on two cores, %.2f × on one (aim 0.25)\n",
			ms(took[2]), ratio(took[1], took[2]), ratio(took[0], took[2]))
	}
	must(os.Remove(path))
	objects := filepath.Join(dir, "objects")
	ledgerLog(objects, size/4, 5*time.Millisecond, true)
	js := fmt.Sprintf("source log { files %q\n layout json }\n", objects)
	took = inTurn(append([]func(){asked(js, objects, "show p95(took) per host every 1m over 28d", 2, &a)},
		program("jq", "-c", "[.host,.took]", objects)...)...)
	fmt.Printf("p95 of a JSON number per field every minute, %d MiB, two cores  %6.0f ms, %d fit\n", *ledgerMiB/4,
		ms(took[0]), a.Fit)
	if len(took) > 1 {
		fmt.Printf("    against jq giving both %6.0f ms   %.3f × (aim 0.02)\n", ms(took[1]),
			ratio(took[0], took[1]))
	}
	memory(dir, objects)
	must(os.Remove(objects))
	if *hourGB > 0 {
		hour(path, settings, dir)
	}
}

// memory measures how much memory questions take that keep much.
func memory(dir, objects string) {
	set := filepath.Join(dir, "s.lantern")
	must(os.WriteFile(set, []byte(fmt.Sprintf("source log { files %q\n layout json }\n", objects)), 0o644))
	most, which := int64(0), ""
	for _, q := range []string{"show count per msg, at over 28d most 5", "where has took over 28d",
		"show different(at), p95(took), median(took) per host every 1m over 28d",
		"join /passed/ to /moved/ by host within 10m over 28d", "show count per each field over 28d most 10"} {
		c := exec.Command(
			"./dimlantern",
			"ask",
			"--settings",
			set,
			"--data",
			filepath.Join(dir, "data"),
			"--csv",
			q,
		)
		if c.Run() != nil {
			continue
		}
		if n := mostMemory(c.ProcessState); n > most {
			most, which = n, q
		}
	}
	fmt.Printf("the most memory of five questions that keep much: %d MiB (aim 300): %s\n", most>>20, which)
}

// hour asks for one hour out of a long log whose note is made.
func hour(path, settings, dir string) {
	size := int64(*hourGB) * 1e9
	lines, begin := ledgerLog(path, size, 5*time.Millisecond, false)
	end := time.Now().UTC()
	notes := filepath.Join(dir, "notes")
	at := begin.Add(end.Sub(begin) / 3).Truncate(time.Hour)
	text := fmt.Sprintf(
		"where \"open refused\" show count per host every 1m from %s to %s",
		at.Format(time.RFC3339),
		at.Add(time.Hour).Format(time.RFC3339),
	)
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(2))
	start := time.Now()
	_, err := asking(settings, path, text, 2, reread.NewNotes(notes)).Answer(context.Background())
	must(err)
	made := time.Since(start)
	var first time.Duration
	var once sync.Once
	x := asking(settings, path, text, 2, reread.NewNotes(notes))
	start = time.Now()
	x.Each = func(*ask.Answer, int64, int64) { once.Do(func() { first = time.Since(start) }) }
	a, err := x.Answer(context.Background())
	must(err)
	took := time.Since(start)
	once.Do(func() { first = took })
	share := size / max(int64(end.Sub(begin)/time.Hour), 1)
	fmt.Printf(
		"one hour of %d GB (%d lines), the note made in %.1f s: %.0f MB read of %.0f MB in the hour (aim 1.2 × and "+
			"64 MiB), %.0f ms, the first picture after %.0f ms (aim 300)\n",
		*hourGB,
		lines,
		made.Seconds(),
		float64(a.Bytes)/1e6,
		float64(share)/1e6,
		ms(took),
		ms(first),
	)
	must(os.Remove(path))
}
