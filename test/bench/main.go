// Command bench measures Dim Lantern against other programs on the same file in
// the same run, and prints ratios. It makes its own data, in memory where the
// machine has a file system in memory.
package main

import (
	"bufio"
	"bytes"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"runtime/debug"
	"runtime/pprof"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	_ "dimlantern/core/layout"
	"dimlantern/core/trial"
)

var (
	mib      = flag.Int("mib", 256, "size of the log in MiB")
	repeats  = flag.Int("repeats", 3, "runs of each, of which the fastest counts")
	only     = flag.String("only", "", "only this kind of patterns, or scale, formats, or many hits")
	profile  = flag.String("profile", "", "write a CPU profile of the last replay there")
	onlyLag  = flag.Bool("only-lag", false, "measure the latency alone")
	onlyType = flag.Bool("only-keystrokes", false, "measure the keystrokes of the bench alone")
	onlyEcho = flag.Bool("only-echo", false, "measure the screens alone")
	onlyKeys = flag.Bool("only-keys", false, "measure many keys alone")
	onlyTold = flag.Bool("only-told", false, "measure the telling of many alerts alone")
	alone    = flag.Bool("alone", false, "measure nothing to compare with")
	noLag    = flag.Bool("no-lag", false, "leave the latency out")
)

// kind is a way of writing many patterns.
type kind struct {
	name    string
	pattern func(i int) string
	hit     func(i int, r *rand.Rand) string // a line's text that the pattern fits
	aim     string
}

func word(i int) string {
	r := rand.New(rand.NewPCG(9, uint64(i)))
	b := make([]byte, 7+r.IntN(6))
	for k := range b {
		b[k] = "etaoinshrdlucmfwypvbgkjqxz"[r.IntN(22)]
	}
	return string(b)
}

func short(i int) string {
	return string([]byte{"bcdfghjklmnpqrstvw"[i%18], "aeiou"[i/18%5], "bcdfghjklmnpqrstvw"[(i*7+i/90)%18],
		"xzqj"[i%4]})
}

var kinds = []kind{
	{"share a phrase", func(i int) string { return fmt.Sprintf(`pump %d: pressure low \((?P<bar>\d)`, 1000+i) },
		func(i int, r *rand.Rand) string {
			return fmt.Sprintf("pump %d: pressure low (%d.2 bar)", 1000+i, r.IntN(3))
		}, "0.2"},
	{"each its own", func(i int) string { return fmt.Sprintf(`%s %s (?P<n>\d+)`, word(i), word(i+5000)) },
		func(i int, r *rand.Rand) string {
			return fmt.Sprintf("%s %s %d", word(i), word(i+5000), r.IntN(100))
		}, "0.12"},
	{"alternations", func(i int) string {
		return fmt.Sprintf(`(?:%s|%s) (?:lost|gone) after (?P<n>\d+)`, word(i), word(i+7000))
	},
		func(i int, r *rand.Rand) string { return fmt.Sprintf("%s gone after %d ms", word(i+7000), r.IntN(100)) },
		"0.1"},
	{"capitals or not", func(i int) string { return fmt.Sprintf(`(?i)%s error (?P<n>\d+)`, word(i)) },
		func(i int, r *rand.Rand) string {
			return fmt.Sprintf("%s Error %d", strings.ToUpper(word(i)), r.IntN(100))
		}, "0.12"},
	{"anchors, classes", func(i int) string {
		return fmt.Sprintf(`%s [\d ]{1,4}, station \d+ reports [a-z ]+$`,
			word(i))
	},
		func(i int, r *rand.Rand) string { return fmt.Sprintf("%s %d", word(i), r.IntN(100)) }, "none"},
	{"one literal", word, func(i int, _ *rand.Rand) string { return word(i) }, "none"},
	{"short words", func(i int) string { return short(i) }, func(i int, _ *rand.Rand) string { return short(i) },
		"0.3"},
}

var filler = []string{"valve %d answered late (%d ms)", "flow %d l/min at %d rpm", "self test %d passed in %d s",
	"pressure %d bar, want %d",
	"door %d opened by card %d", "level of basin %d is %d cm", "pump house %d draws %d kW", "lamp %d burns for %d h"}

// makeLog writes a log of which one line in a thousand, or so many, is a hit of
// one of n patterns.
func makeLog(path string, size int64, k kind, n int, perMille float64) (lines int64) {
	f, err := os.Create(path)
	must(err)
	w := bufio.NewWriterSize(f, 1<<20)
	r := rand.New(rand.NewPCG(1, 1))
	at := time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC)
	for written := int64(0); written < size; {
		at = at.Add(time.Duration(r.IntN(20)) * time.Millisecond)
		text := ""
		if r.Float64()*1000 < perMille {
			text = k.hit(r.IntN(n), r)
		} else {
			text = fmt.Sprintf(filler[r.IntN(len(filler))], r.IntN(1000), r.IntN(1000))
		}
		m, err := fmt.Fprintf(w, "%s pump-%02d pumpd[%d]: %s, station %d reports all else as usual\n",
			at.Format("2006-01-02 15:04:05.000"), r.IntN(40), 100+r.IntN(900), text, r.IntN(90))
		must(err)
		written += int64(m)
		lines++
	}
	must(w.Flush())
	must(f.Close())
	return lines
}

// makeLines writes a log without hits of lines of about so many bytes.
func makeLines(path string, size int64, length int) (lines int64) {
	f, err := os.Create(path)
	must(err)
	w := bufio.NewWriterSize(f, 1<<20)
	r := rand.New(rand.NewPCG(2, 2))
	at := time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC)
	for written := int64(0); written < size; lines++ {
		at = at.Add(time.Duration(r.IntN(20)) * time.Millisecond)
		line := at.Format("2006-01-02 15:04:05.000") + " p p[1]: "
		for len(line) < length-1 {
			line += fmt.Sprintf(filler[r.IntN(len(filler))], r.IntN(1000), r.IntN(1000)) + ", "
		}
		m, err := w.WriteString(line[:length-1] + "\n")
		must(err)
		written += int64(m)
	}
	must(w.Flush())
	must(f.Close())
	return lines
}

// rulesFor writes n rules of that kind.
func rulesFor(k kind, n int, path string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "source log {\n  files %q\n  layout line\n}\n", path)
	b.WriteString("layout line {\n  pattern /^(?<at>\\S+ \\S+) (?<host>\\S+) " +
		"(?<program>[\\w-]+)\\[(?<pid>\\d+)\\]: (?<text>.*)$/\n  time at like \"2026-11-24 05:32:28.114\"\n}\n")
	for i := range n {
		fmt.Fprintf(&b, "rule r%04d {\n  problem re`%s`\n  per host\n  raise warning at 3 in 5m\n  clear after "+
			"30m quiet\n}\n", i, k.pattern(i))
	}
	return b.String()
}

func must(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// best runs f a few times and returns the shortest time.
func best(f func()) time.Duration {
	min := time.Duration(1 << 62)
	for range *repeats {
		start := time.Now()
		f()
		if d := time.Since(start); d < min {
			min = d
		}
	}
	return min
}

// profiled begins the profile that was asked for, and returns what ends it.
func profiled() func() {
	if *profile == "" {
		return func() {}
	}
	f, err := os.Create(*profile)
	must(err)
	must(pprof.StartCPUProfile(f))
	return pprof.StopCPUProfile
}

func replay(src, path string) (time.Duration, trial.Summary) {
	s, ds := lang.Check([]*lang.File{lang.Parse("bench", []byte(src))}, lang.Env{Time: layout.CheckTime})
	if lang.Errors(ds) {
		must(fmt.Errorf("%v", ds))
	}
	defer profiled()()
	defer debug.SetGCPercent(debug.SetGCPercent(400)) // as the command replay does
	var sum trial.Summary
	d := best(func() {
		f, err := os.Open(path)
		must(err)
		defer f.Close()
		sum, err = trial.Replay(s, []*trial.Input{{Source: s.Sources[0], Path: path, Host: "h", Files: []io.Reader{f},
			Near: entry.None}}, trial.Options{})
		must(err)
	})
	return d, sum
}

func command(name string, args ...string) (time.Duration, bool) {
	if _, err := exec.LookPath(name); err != nil {
		return 0, false
	}
	return best(func() {
		c := exec.Command(name, args...)
		c.Stdout = io.Discard
		c.Run()
	}), true
}

// plainLoop looks at every line with every pattern, on a part of the file.
func plainLoop(path string, patterns []*regexp.Regexp, part int64) (time.Duration, int64) {
	f, err := os.Open(path)
	must(err)
	defer f.Close()
	b := make([]byte, part)
	n, _ := io.ReadFull(f, b)
	b = b[:n]
	hits := int64(0)
	start := time.Now()
	for len(b) > 0 {
		k := bytes.IndexByte(b, '\n')
		if k < 0 {
			break
		}
		for _, p := range patterns {
			if p.Match(b[:k]) {
				hits++
			}
		}
		b = b[k+1:]
	}
	return time.Since(start), hits
}

func main() {
	flag.Parse()
	if *onlyHosts {
		defer profiled()()
		questions()
		manyHosts()
		return
	}
	if *onlyLag {
		latencies()
		return
	}
	if *onlyType {
		defer profiled()()
		keystrokes()
		return
	}
	if *onlyKeys {
		defer profiled()()
		manyKeys()
		return
	}
	if *onlyTold {
		storm()
		return
	}
	if *onlyLedger {
		defer profiled()()
		ledgers()
		return
	}
	if *onlyOut {
		defer profiled()()
		outward()
		return
	}
	if *onlyEcho {
		fromText()
		edit()
		echo()
		return
	}
	runtime.GOMAXPROCS(1)
	dir := "/dev/shm"
	if info, err := os.Stat(dir); err != nil || !info.IsDir() {
		dir = os.TempDir()
	}
	dir, err := os.MkdirTemp(dir, "dl-bench-")
	must(err)
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "log")
	size := int64(*mib) << 20
	fmt.Printf("%d MiB in %s, one core; the fastest of %d runs\n\n", *mib, dir, *repeats)
	for _, k := range kinds {
		if *only != "" && *only != k.name {
			continue
		}
		lines := makeLog(path, size, k, 200, 2)
		d, sum := replay(rulesFor(k, 200, path), path)
		if *alone {
			fmt.Printf("200 rules, %-15s  replay %6.0f ms, %d hits in %d lines\n", k.name, ms(d), sum.Hits, lines)
			continue
		}
		var patterns []*regexp.Regexp
		list := ""
		named := regexp.MustCompile(`\?P<\w+>`) // of one name there may be but one group in rg's list
		for i := range 200 {
			patterns = append(patterns, regexp.MustCompile(k.pattern(i)))
			list += named.ReplaceAllString(k.pattern(i), "") + "\n"
		}
		must(os.WriteFile(filepath.Join(dir, "patterns"), []byte(list), 0o644))
		part := min(size, 2<<20)
		loop, _ := plainLoop(path, patterns, part)
		loop = time.Duration(float64(loop) * float64(size) / float64(part))
		fmt.Printf("200 rules, %-15s  replay %6.0f ms, %d hits in %d lines\n", k.name, ms(d), sum.Hits, lines)
		if rg, ok := command("rg", "-j1", "-c", "-f", filepath.Join(dir, "patterns"), path); ok {
			fmt.Printf("    against rg -j1 -c -f   %6.0f ms   %.3f × its time (aim %s)\n", ms(rg),
				float64(d)/float64(rg), k.aim)
		}
		fmt.Printf("    against a plain loop   %6.0f ms   %.0f × faster (aim 300; measured on %d MiB of it)\n",
			ms(loop), float64(loop)/float64(d), part>>20)
		os.Stdout.Sync()
	}
	if *only == "many hits" {
		makeLog(path, size, kinds[1], 10, 300)
		many, sum := replay(rulesFor(kinds[1], 10, path), path)
		fmt.Printf("hits in 30 %% of the lines (%d) %.0f ms\n", sum.Hits, ms(many))
	}
	if *only == "formats" {
		formats(dir, size)
	}
	if *only == "scale" {
		scale(path, size)
	}
	if *only != "" || *alone {
		return
	}
	scale(path, size)
	formats(dir, size)
	os.Remove(path)
	ledgers()
	outward()
	if !*noLag {
		manyKeys()
		storm()
		keystrokes()
		latencies()
		fromText()
		edit()
		echo()
	}
}

func ms(d time.Duration) float64 { return float64(d) / 1e6 }

func ratio(a, b time.Duration) float64 { return float64(a) / float64(b) }

// scale measures how the time grows with rules and with hits.
func scale(path string, size int64) {
	k := kinds[1]
	makeLog(path, size, k, 10, 2)
	wc, _ := command("wc", "-l", path)
	one, _ := replay(rulesFor(k, 1, path), path)
	ten, _ := replay(rulesFor(k, 10, path), path)
	fmt.Printf("\nwc -l %.0f ms;  1 rule %.0f ms, %.1f × (aim 3);  10 rules %.0f ms, %.1f × (aim 4)\n", ms(wc),
		ms(one), float64(one)/float64(wc), ms(ten), float64(ten)/float64(wc))
	thousand, _ := replay(rulesFor(k, 1000, path), path)
	fmt.Printf("1,000 rules %.0f ms, %.1f × the time of 10 (aim 2)\n", ms(thousand), float64(thousand)/float64(ten))
	five, _ := replay(rulesFor(k, 5000, path), path)
	fmt.Printf("5,000 rules %.0f ms, %.1f × the time of 10\n", ms(five), float64(five)/float64(ten))
	for _, perMille := range []float64{0.1, 10} {
		makeLog(path, size, k, 10, perMille)
		d, sum := replay(rulesFor(k, 10, path), path)
		fmt.Printf("hits in %g %% of the lines (%d) %.0f ms, %.1f × the time with 0.2 %%\n", perMille/10, sum.Hits,
			ms(d), float64(d)/float64(ten))
	}
	for _, length := range []int{40, 200, 4000} {
		n := makeLines(path, size, length)
		d, _ := replay(rulesFor(k, 200, path), path)
		fmt.Printf("%d lines of %d bytes, 200 rules %.0f ms, %.2f GB/s\n", n, length, ms(d),
			float64(size)/1e9/d.Seconds())
	}
	makeLog(path, size, k, 10, 300)
	many, sum := replay(rulesFor(k, 10, path), path)
	fmt.Printf("hits in 30 %% of the lines (%d) %.0f ms, %.1f × the time without (aim 10)\n", sum.Hits, ms(many),
		float64(many)/float64(ten))
}
