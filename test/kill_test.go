package test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// writer writes 2,000 lines a second, of which one in ten is something for the
// rules, and rotates in its way.
type writer struct {
	path  string
	way   string
	rand  *rand.Rand
	stop  chan struct{}
	done  sync.WaitGroup
	hits  int
	moved int
	err   error
}

func (w *writer) run(every time.Duration) {
	defer w.done.Done()
	r := w.rand
	f, err := os.OpenFile(w.path, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	rotate := time.Now().Add(every)
	for err == nil {
		select {
		case <-w.stop:
			w.err = f.Close()
			return
		case <-tick.C:
		}
		var b strings.Builder
		for range 20 {
			text := fmt.Sprintf("valve %d answered in %d ms", r.IntN(90), r.IntN(900))
			switch n := r.IntN(100); {
			case n < 8:
				text = fmt.Sprintf("pump %d low", r.IntN(40))
				w.hits++
			case n < 10:
				text = fmt.Sprintf("pump %d fine", r.IntN(40))
			}
			fmt.Fprintf(&b, "%s host-%c %s\n", stamp(), 'a'+rune(r.IntN(3)), text)
		}
		if _, err = f.WriteString(b.String()); err == nil && time.Now().After(rotate) {
			rotate = time.Now().Add(every)
			f.Close()
			if err = w.rotate(); err == nil {
				f, err = os.OpenFile(w.path, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
			}
		}
	}
	w.err = err
}

// rotate moves the log on, and in one way compresses what is two rotations old.
func (w *writer) rotate() error {
	for i := w.moved; i > 0; i-- {
		for _, end := range []string{"", ".gz"} {
			os.Rename(fmt.Sprintf("%s.%d%s", w.path, i, end), fmt.Sprintf("%s.%d%s", w.path, i+1, end))
		}
	}
	w.moved++
	way := w.way
	if way == "any" {
		way = []string{"rename", "copy and cut", "rename and compress"}[w.rand.IntN(3)]
		if path := fmt.Sprintf("%s.%d", w.path, 2+w.rand.IntN(3)); w.rand.IntN(2) == 0 && exists(path) {
			if err := exec.Command("gzip", path).Run(); err != nil {
				return err
			}
		}
	}
	switch way {
	case "copy and cut":
		b, err := os.ReadFile(w.path)
		if err == nil {
			err = os.WriteFile(w.path+".1", b, 0o644)
		}
		if err == nil {
			err = os.Truncate(w.path, 0)
		}
		return err
	case "rename and compress":
		if path := w.path + ".3"; exists(path) {
			if err := exec.Command("gzip", path).Run(); err != nil {
				return err
			}
		}
	}
	return os.Rename(w.path, w.path+".1")
}

// Killed at any instant under load with rotation, nothing is lost and nothing
// doubled: transitions, evidence and counts are those of an undisturbed run.
func TestKill(t *testing.T) {
	for _, way := range []string{"rename", "copy and cut", "rename and compress", "any"} {
		t.Run(way, func(t *testing.T) { testKill(t, way) })
	}
}

func testKill(t *testing.T, way string) {
	kills := 5
	if s := os.Getenv("DIMLANTERN_KILLS"); s != "" {
		n, err := strconv.Atoi(s)
		require.NoError(t, err)
		kills = n
	}
	f := newFolder(t)
	write(t, f.log, "")
	s := f.start(t)
	f.ready(t)
	seed := uint64(time.Now().UnixNano())
	w := &writer{path: f.log, way: way, rand: rand.New(rand.NewPCG(1, seed)), stop: make(chan struct{})}
	w.done.Add(1)
	go w.run(1500 * time.Millisecond)
	r := rand.New(rand.NewPCG(3, seed))
	for range kills {
		time.Sleep(time.Duration(20+r.IntN(900)) * time.Millisecond) // the instant is the point
		require.NoError(t, s.cmd.Process.Kill())
		s.cmd.Wait()
		if r.IntN(4) == 0 { // sometimes several rotations happen meanwhile
			time.Sleep(4 * time.Second)
		}
		s = f.start(t)
	}
	time.Sleep(time.Second)
	close(w.stop)
	w.done.Wait()
	require.NoError(t, w.err)
	last := "pump 999 low"
	appendTo(t, f.log, stamp()+" host-z "+last+"\n"+stamp()+" host-z "+last+"\n")
	eventually(t, "all is read", func() bool {
		return strings.Contains(f.sql(t, "SELECT line FROM transitions ORDER BY seq DESC LIMIT 1"), `"pump":"999"`)
	})
	var files []string
	for i := w.moved; i > 0; i-- {
		for _, end := range []string{"", ".gz"} {
			if path := fmt.Sprintf("%s.%d%s", f.log, i, end); exists(path) {
				files = append(files, path)
			}
		}
	}
	want := replayed(t, f, append(files, f.log)...)
	got := f.history(t)
	for i := range min(len(want), len(got)) {
		require.Equal(t, want[i], got[i], "transition %d of %d", i, len(want))
	}
	require.Len(t, got, len(want))
	require.Equal(t, strconv.Itoa(w.hits+2), f.sql(t, "SELECT sum(n) FROM marks"), "every hit is counted once")
	t.Logf("%d kills, %d rotations, %d hits, %d transitions", kills, w.moved, w.hits, len(got))
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// replayed is what a replay of files gives.
func replayed(t *testing.T, f folder, files ...string) []map[string]any {
	t.Helper()
	c := exec.Command(binary, append([]string{"replay", "--rules", f.settings, "--as", "app", "--json"}, files...)...)
	out, err := c.Output()
	require.NoError(t, err)
	var all []map[string]any
	s := bufio.NewScanner(strings.NewReader(string(out)))
	s.Buffer(nil, 4<<20)
	for s.Scan() {
		var m map[string]any
		require.NoError(t, json.Unmarshal(s.Bytes(), &m))
		all = append(all, m)
	}
	return all
}
