package main

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// written are layouts in which logs come, and an entry in each.
var written = []struct {
	name, layout string
	line         func(at time.Time, host, pid int, text string) string
}{
	{"a pattern as detect proposes it", "layout l {\n  pattern re`^\\[(?<at>\\d{4}-\\d\\d-\\d\\d " +
		"+\\d{1,2}:\\d\\d:\\d\\d[\\d.,]*)\\] (?<host>[\\w.-]+) (?<program>[\\w./-]+)\\[(?<pid>\\d+)\\]: " +
		"(?<text>.*)$`\n  time at like \"2026-11-24 03:13:12\"\n}\n",
		func(at time.Time, host, pid int, text string) string {
			return fmt.Sprintf("[%s] pump-%02d pumpd[%d]: %s", at.Format("2006-01-02 15:04:05"), host, pid, text)
		}},
	{"syslog, RFC 3164", "syslog", func(at time.Time, host, pid int, text string) string {
		return fmt.Sprintf("%s pump-%02d pumpd[%d]: %s", at.Format(time.Stamp), host, pid, text)
	}},
	{"syslog, RFC 5424", "syslog", func(at time.Time, host, pid int, text string) string {
		return fmt.Sprintf("<%d>1 %s pump-%02d pumpd %d - - %s", 10+host, at.Format("2006-01-02T15:04:05.000Z07:00"),
			host, pid, text)
	}},
	{"JSON", "layout l {\n  json\n  time at like \"2026-11-24T05:32:28.114Z\"\n}\n",
		func(at time.Time, host, pid int, text string) string {
			return fmt.Sprintf(`{"at":"%s","host":"pump-%02d","pid":%d,"text":"%s"}`,
				at.Format("2006-01-02T15:04:05.000Z07:00"), host, pid, text)
		}},
	{"logfmt", "layout l {\n  logfmt\n  time at like \"2026-11-24T05:32:28.114Z\"\n  map msg to text\n}\n",
		func(at time.Time, host, pid int, text string) string {
			return fmt.Sprintf(`at=%s host=pump-%02d pid=%d msg="%s"`, at.Format("2006-01-02T15:04:05.000Z07:00"),
				host,
				pid, text)
		}},
	{"a common web log", "clf", func(at time.Time, host, pid int, text string) string {
		return fmt.Sprintf(`10.0.0.%d - - [%s] "GET /%s HTTP/1.1" 200 %d`, host,
			at.Format("02/Jan/2006:15:04:05 -0700"), strings.ReplaceAll(text, " ", "_"), pid)
	}},
}

// formats measures 200 rules over the layouts that logs come in.
func formats(dir string, size int64) {
	fmt.Println()
	path := filepath.Join(dir, "written")
	var patterns, rules strings.Builder
	for i := range 200 {
		fmt.Fprintf(&patterns, "pump[ _]%d:[ _]pressure[ _]low\n", 1000+i)
		fmt.Fprintf(&rules, "rule r%03d {\n  problem /pump[ _]%d:[ _]pressure[ _]low/\n  raise warning at 3 in "+
			"5m\n  clear after 30m quiet\n}\n", i, 1000+i)
	}
	must(os.WriteFile(filepath.Join(dir, "patterns"), []byte(patterns.String()), 0o644))
	for _, w := range written {
		f, err := os.Create(path)
		must(err)
		out := bufio.NewWriterSize(f, 1<<20)
		r := rand.New(rand.NewPCG(3, 3))
		at := time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC)
		lines := 0
		for n := int64(0); n < size; lines++ {
			at = at.Add(time.Duration(r.IntN(20)) * time.Millisecond)
			text := fmt.Sprintf(filler[r.IntN(len(filler))], r.IntN(1000), r.IntN(1000))
			if r.IntN(500) == 0 {
				text = fmt.Sprintf("pump %d: pressure low", 1000+r.IntN(200))
			}
			m, err := fmt.Fprintln(out, w.line(at, r.IntN(40), 100+r.IntN(900),
				text+", station reports all else as usual"))
			must(err)
			n += int64(m)
		}
		must(out.Flush())
		must(f.Close())
		name, own := w.layout, ""
		if strings.HasPrefix(w.layout, "layout ") {
			name, own = "l", w.layout
		}
		d, sum := replay(fmt.Sprintf("source log {\n  files %q\n  layout %s\n}\n%s%s", path, name, own,
			rules.String()), path)
		fmt.Printf("200 rules over %-32s %4.0f ms, %.2f GB/s, %d hits in %d lines", w.name, ms(d),
			float64(size)/1e9/d.Seconds(), sum.Hits, lines)
		if rg, ok := command("rg", "-j1", "-c", "-f", filepath.Join(dir, "patterns"), path); ok {
			fmt.Printf("; %.2f × rg", float64(d)/float64(rg))
		}
		fmt.Println()
	}
}
