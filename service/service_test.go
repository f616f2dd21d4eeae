package service

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dimlantern/core/author"

	"dimlantern/folder"

	"dimlantern/api"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/trial"
)

const rules = `source app {
  files  "%s/app.log"
  begin  oldest
  layout line
}
layout line {
  pattern /^(?<at>\S+) (?<host>\S+) (?<text>.*)$/
  time at rfc3339
}
rule low {
  problem  /pump (?<pump>\d+) low/
  recovery /pump (?<pump>\d+) fine/
  per      host, pump
  raise    warning at 2 in 5m
  raise    critical at 4 in 5m
  clear    after 10m quiet
  remind   every 3m
  say      "Pump {pump}"
}
`

// place is a folder with rules, a log, and a service that is driven by hand.
type place struct {
	t       require.TestingT
	dir     string
	s       *Service
	seen    []string // transitions that were committed
	noticed time.Time
}

func newPlace(t require.TestingT, dir string) *place {
	p := &place{t: t, dir: dir}
	p.write("settings/app.lantern", fmt.Sprintf(rules, dir))
	return p
}

func (p *place) write(name, text string) {
	path := filepath.Join(p.dir, name)
	require.NoError(p.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(p.t, os.WriteFile(path, []byte(text), 0o644))
}

func (p *place) append(text string) {
	f, err := os.OpenFile(filepath.Join(p.dir, "app.log"), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
	require.NoError(p.t, err)
	_, err = f.WriteString(text)
	require.NoError(p.t, err)
	require.NoError(p.t, f.Close())
}

func (p *place) open() {
	var err error
	p.s, err = Open(Options{Settings: filepath.Join(p.dir, "settings"), Data: filepath.Join(p.dir, "data"),
		NoEvents: true})
	require.NoError(p.t, err)
	p.take()
}

// step reads what there is.
func (p *place) step(now time.Time) {
	p.s.follower.Missed(nil)
	for range 50 {
		p.s.times.placed = time.Time{}
		if !p.s.round(now) {
			break
		}
	}
	p.take()
	p.s.publish(now)
	if now.Sub(p.noticed) >= noticeEvery {
		p.noticed = now
		p.s.noticeNow(p.s.window.Now(), now)
	}
}

// loop does what others want of the loop until f has ended.
func (p *place) loop(f func()) {
	done := make(chan struct{})
	go func() { defer close(done); f() }()
	for {
		select {
		case do := <-p.s.commands:
			do()
		case <-done:
			return
		}
	}
}

func (p *place) take() {
	for _, t := range p.s.fired {
		p.seen = append(p.seen, fmt.Sprintf("%s %s %v %s %d %s", t.At, t.Change, t.Key, t.Severity, t.Count, t.Why))
	}
	p.s.fired = nil
}

// crash lets go of everything as it is, as the end of a process does.
func (p *place) crash() {
	p.s.beside.end()
	p.s.follower.Close()
	p.s.store.Close()
	p.s.lock.Close()
}

// Restarted at any time, the service goes on exactly: transitions equal those of
// one that was never disturbed.
func TestRestartGoesOnExactly(t *testing.T) {
	happened := 0
	for seed := range uint64(12) {
		r := rand.New(rand.NewPCG(seed, 1))
		now := time.Date(2026, 11, 24, 5, 0, 0, 0, time.UTC)
		var chunks []string
		var ends []time.Time
		for range 1 + r.IntN(8) {
			var b strings.Builder
			for range 1 + r.IntN(12) {
				now = now.Add([]time.Duration{0, 1, 30, 60, 200, 700}[r.IntN(6)] * time.Second)
				fmt.Fprintf(&b, "%s %s pump %d %s\n", now.Format(time.RFC3339), []string{"a", "b"}[r.IntN(2)],
					1+r.IntN(2),
					[]string{"low", "low", "low", "fine", "idle"}[r.IntN(5)])
			}
			chunks, ends = append(chunks, b.String()), append(ends, now)
		}
		var got [2][]string
		for k, disturbed := range []bool{false, true} {
			p := newPlace(t, t.TempDir())
			p.open()
			for i, c := range chunks {
				p.append(c)
				if disturbed && r.IntN(2) == 0 {
					p.crash()
					p.open()
				}
				p.step(ends[i]) // the clock stands where the log does
				if disturbed && r.IntN(2) == 0 {
					p.crash()
					p.open()
				}
			}
			p.step(now.Add(time.Hour))
			got[k] = p.seen
			p.crash()
		}
		happened += len(got[0])
		require.Equal(t, got[0], got[1], "seed %d", seed)
	}
	require.Greater(t, happened, 50)
}

// The last entry of a rotated copy is judged before what stands in the new file, although
// nothing behind it says that it has ended.
func TestEntriesEndWithTheirFile(t *testing.T) {
	p := newPlace(t, t.TempDir())
	p.write("settings/app.lantern", "source app {\n files \""+p.dir+
		"/app.log\"\n begin oldest\n layout line\n entry starts /^2026-/ closed after 3s\n}\nlayout line {\n "+
		"pattern /^(?<at>\\S+) (?<text>.*)$/\n time at rfc3339\n}\nrule r {\n problem \"lost\"\n per nothing\n "+
		"raise error at 3\n clear by hand\n}\n")
	p.write("app.log.1", "2026-11-24T05:00:00Z lost 1\n  here\n2026-11-24T05:00:01Z lost 2\n  there\n")
	p.append("2026-11-24T05:00:02Z lost 3\n2026-11-24T05:00:03Z lost 4\n")
	p.open()
	defer p.crash()
	p.step(time.Now())
	require.NotEmpty(t, p.seen)
	assert.Equal(t, "2026-11-24T05:00:02.000Z raised [] error 3 3 hits", p.seen[0])
}

// The screens see when an alert stood in the shadow of a bigger one, and when it was hushed.
func TestUntold(t *testing.T) {
	p := newPlace(t, t.TempDir())
	start := time.Now().UTC().Add(-30 * time.Minute).Truncate(time.Minute)
	p.write("settings/b.lantern", "rule out {\n problem \"power out\"\n recovery \"power back\"\n per host\n "+
		"raise error\n}\nrule stopped {\n problem /pump (?<pump>\\d+) stopped/\n per host, pump\n raise error\n "+
		"clear by hand\n unless out open same host\n}\n"+
		fmt.Sprintf("hush works {\n rules out\n where host == \"a\"\n from %s to %s\n}\n",
			start.Add(5*time.Minute).Format(time.RFC3339), start.Add(10*time.Minute).Format(time.RFC3339)))
	for _, x := range []struct {
		m    int
		text string
	}{{1, "a pump 3 stopped"}, {3, "a power out"}, {3, "b power out"}, {12, "a power back"}} {
		p.append(start.Add(time.Duration(x.m)*time.Minute).Format(time.RFC3339) + " " + x.text + "\n")
	}
	p.open()
	defer p.crash()
	p.step(time.Now())
	v, err := p.s.query.View(context.Background(), api.ViewQuery{Column: time.Minute, Columns: 60})
	require.NoError(t, err)
	untold := map[string][]string{}
	for _, r := range append(v.Open, v.Over...) {
		for _, s := range r.Life.Untold {
			untold[r.Rule+" "+r.Key[0]] = append(untold[r.Rule+" "+r.Key[0]],
				fmt.Sprintf("%s %.0f-%.0f", s.Why, s.From.Sub(entry.Of(start)).Minutes(),
					s.To.Sub(entry.Of(start)).Minutes()))
		}
	}
	assert.Equal(t, map[string][]string{"stopped a": {"in the shadow of out 3-12"}, "out a": {"hushed: works 5-10"}},
		untold)
}

// The screens see the world as it was at any moment.
func TestViewOfThePast(t *testing.T) {
	p := newPlace(t, t.TempDir())
	start := time.Now().UTC().Add(-20 * time.Minute).Truncate(time.Minute)
	for i, text := range []string{"a pump 7 low", "a pump 7 low", "b pump 7 low", "a pump 7 low", "a pump 7 low",
		"a pump 7 fine"} {
		p.append(start.Add(time.Duration(i)*time.Minute).Format(time.RFC3339) + " " + text + "\n")
	}
	p.open()
	defer p.crash()
	p.step(time.Now())
	view := func(m int) *api.View {
		v, err := p.s.query.View(context.Background(),
			api.ViewQuery{At: entry.Of(start.Add(time.Duration(m)*time.Minute + 20*time.Second)), Column: time.Minute,
				Columns: 60})
		require.NoError(t, err)
		return v
	}
	v := view(0)
	assert.Empty(t, v.Open)
	require.Len(t, v.Stirring, 1)
	assert.Equal(t, "1 of 2 in 5m", v.Stirring[0].Note)
	v = view(2)
	require.Len(t, v.Open, 1)
	assert.Equal(t, entry.Warning, v.Open[0].Severity)
	v = view(4)
	require.Len(t, v.Open, 1)
	assert.Equal(t, entry.Critical, v.Open[0].Severity)
	assert.Equal(t, []string{"a", "7"}, v.Open[0].Key)
	v = view(6)
	assert.Empty(t, v.Open)
	require.Len(t, v.Over, 1)
	assert.Equal(t, "recovery", v.Over[0].Life.Alerts[0].Why)
	d, err := p.s.query.Detail(context.Background(),
		api.DetailQuery{At: entry.Of(start.Add(3*time.Minute + time.Second)), Rule: "low", Key: []string{"a", "7"},
			Alert: v.Over[0].Alert, Lines: 50})
	require.NoError(t, err)
	require.NotEmpty(t, d.Lines)
	assert.Len(t, d.Lines, 4, "what came later is not shown")
	assert.True(t, d.Lines[0].Hit)
	assert.NotEmpty(t, d.Lines[0].Lit)
	assert.Equal(t, "raised, a warning", d.Story[1].Text)
	e, err := p.s.query.Entries(context.Background(),
		api.EntriesQuery{Origin: d.Origin, At: entry.Of(start.Add(2*time.Minute + time.Second)), Lines: 10,
			Filter: "PUMP b"})
	require.NoError(t, err)
	require.Len(t, e.Lines, 1)
	assert.Equal(t, "pump 7 low", e.Lines[0].Text)
}

// The evidence of an alert goes on over a rotation.
func TestEvidenceOverARotation(t *testing.T) {
	p := newPlace(t, t.TempDir())
	start := time.Now().UTC().Add(-5 * time.Minute).Truncate(time.Second)
	at := func(s int) string { return start.Add(time.Duration(s) * time.Second).Format(time.RFC3339) }
	p.append(at(0) + " a pump 7 low\n" + at(1) + " a pump 7 low\n")
	p.open()
	defer p.crash()
	p.step(time.Now())
	require.NoError(t, os.Rename(filepath.Join(p.dir, "app.log"), filepath.Join(p.dir, "app.log.1")))
	p.append(at(2) + " a pump 7 fine\n")
	p.step(time.Now())
	v, err := p.s.query.View(context.Background(), api.ViewQuery{Column: time.Minute, Columns: 60})
	require.NoError(t, err)
	require.Len(t, v.Over, 1)
	d, err := p.s.query.Detail(context.Background(),
		api.DetailQuery{Rule: "low", Key: []string{"a", "7"}, Alert: v.Over[0].Alert, Lines: 50})
	require.NoError(t, err)
	var got []string
	for _, l := range d.Lines {
		got = append(got, fmt.Sprintf("%v %v %s", l.Hit, l.Recovery, l.Text))
	}
	assert.Equal(t, []string{"false true a pump 7 fine", "true false a pump 7 low", "true false a pump 7 low"}, got)
}

// Where the database cannot be written, reading waits, and nothing is lost.
func TestWhatCannotBeCommittedWaits(t *testing.T) {
	p := newPlace(t, t.TempDir())
	p.append("")
	p.open()
	p.step(time.Now())
	lock, err := openLocked(filepath.Join(p.dir, "data", "lantern.db"))
	require.NoError(t, err)
	p.append("2026-11-24T05:00:00Z a pump 7 low\n2026-11-24T05:00:01Z a pump 7 low\n")
	p.s.store.Patience(50 * time.Millisecond)
	p.s.follower.Missed(nil)
	p.step(time.Now())
	assert.Empty(t, p.seen)
	assert.Contains(t, p.s.trouble["store"], "nothing is lost")
	require.NoError(t, lock())
	p.s.failed = time.Now().Add(-time.Minute)
	p.step(time.Now())
	require.NotEmpty(t, p.seen)
	assert.Contains(t, p.seen[0], engine.Raised)
	assert.Empty(t, p.s.trouble)
	p.crash()
}

func TestBringProposes(t *testing.T) {
	p := newPlace(t, t.TempDir())
	p.open()
	defer p.crash()
	p.write("logs/Ferry Desk.log", strings.Repeat("2026-11-24T05:00:00Z a boarding 7\n", 20)+"odd one\n")
	b, err := p.s.bench.Bring(context.Background(),
		api.BringQuery{Path: filepath.Join(p.dir, "logs/*.log"), Begin: "24h ago"})
	require.NoError(t, err)
	assert.Equal(t, "line", b.Layout, "the layout that fits best")
	assert.Contains(t, b.Text, "begin  24h ago")
	assert.Contains(t, b.Text, "source logs {")
	assert.False(t, b.Done)
	b, err = p.s.bench.Bring(context.Background(), api.BringQuery{Path: "relative/x.log"})
	require.NoError(t, err)
	assert.Contains(t, b.Words, "begins with /")
	for range 2 {
		_, err = p.s.bench.Bring(context.Background(),
			api.BringQuery{Path: filepath.Join(p.dir, "logs/*.log"), Layout: "plain", Write: true})
	}
	assert.ErrorContains(t, err, "cannot be written", "what is there is not overwritten")
	texts, err := folder.Read(filepath.Join(p.dir, "settings"))
	require.NoError(t, err)
	s, ds := folder.Check(texts)
	for _, d := range ds {
		assert.Equal(t, "untested", d.Code, d.String())
	}
	assert.Equal(t, "plain", s.Source("logs").Layout)
}

// What was only not read yet is not missed: the timers of a rule wait for a source
// that is looked at now and then, over a restart too, and those of other rules do
// not wait with them.
func TestTimersFollowWhatWasRead(t *testing.T) {
	p := newPlace(t, t.TempDir())
	p.write("settings/app.lantern", strings.Replace(fmt.Sprintf(rules, p.dir), "app.log\"", "app.log\" every 20m", 1)+
		fmt.Sprintf("source now { files %q\n begin oldest\n layout line }\nrule soon { on now\n problem \"gate "+
			"open\"\n raise error\n clear after 10m quiet }\n", p.dir+"/now.log"))
	start := time.Date(2026, 11, 24, 5, 0, 0, 0, time.UTC)
	at := func(m int) time.Time { return start.Add(time.Duration(m) * time.Minute) }
	low := func(m int) string { return at(m).Format(time.RFC3339) + " a pump 7 low\n" }
	p.append(low(0) + low(1))
	p.write("now.log", at(1).Format(time.RFC3339)+" a gate open\n")
	p.open()
	p.step(at(1))
	p.append(low(6) + low(12))
	p.step(at(12))
	p.crash()
	p.open()
	p.step(at(15))
	got := strings.Join(p.seen, "\n")
	assert.Contains(t, got, "2026-11-24T05:11:00.000Z cleared",
		"a source that is read as it is written does not wait")
	assert.NotContains(t, got, "cleared [a 7]")
	p.step(at(21))
	assert.NotContains(t, strings.Join(p.seen, "\n"), "cleared [a 7]",
		"at 05:11:00 nothing was known of 05:06:00 yet")
	p.step(at(60))
	assert.Contains(t, strings.Join(p.seen, "\n"), "2026-11-24T05:22:00.000Z cleared [a 7] warning 4 quiet")
	p.crash()
}

// A rule begins with an entry: its numbers are left open, the one that a word names
// is part of the key, and what it would have done is said before it is written.
func TestRuleFromAnEntry(t *testing.T) {
	for line, want := range map[string]string{
		"pump 7: pressure low (1.2 bar, want 2.0)": `/pump (?<pump>\d+): pressure low \([\d.:,]+ bar, want [\d.:,` +
			`]+\)/ pump`,
		"level=3 temp=-18.4 at /var/x": `/level=\d+ temp=-[\d.:,]+ at \/var\/x/ `,
		"seat 12 of berth 3.":          `/seat \d+ of berth (?<berth>\d+)\./ berth`,
		"within 5 s, disk7 gone":       `/within \d+ s, disk\d+ gone/ `,
	} {
		pattern, named := author.PatternOver([]string{line})
		assert.Equal(t, want, pattern+" "+named)
		assert.Regexp(t, strings.ReplaceAll(strings.Trim(pattern, "/"), `\/`, "/"), line)
	}
	p := newPlace(t, t.TempDir())
	now := time.Now().UTC()
	for i := range 30 {
		p.append(fmt.Sprintf("%s %s valve %d jams, %d.5 mm\n",
			now.Add(-time.Duration(30-i)*time.Second).Format(time.RFC3339), []string{"a", "b"}[i%2], i%3, i))
	}
	p.open()
	defer p.crash()
	p.step(now)
	q := api.BeginQuery{Origin: p.s.follower.Origins()[0].Name, Raw: now.Format(time.RFC3339) +
		" a valve 2 jams, 4.5 mm", Severity: entry.Error}
	b, err := p.s.bench.BeginRule(context.Background(), q)
	require.NoError(t, err)
	assert.Contains(t, b.Text, "per     host, valve")
	assert.Contains(t, b.Text, "raise   error")
	assert.Equal(t, []int64{30, 30, 6}, []int64{b.Hits, b.Looked, b.Raised})
	q.Write = true
	b, err = p.s.bench.BeginRule(context.Background(), q)
	require.NoError(t, err)
	assert.True(t, b.Done)
	texts, err := folder.Read(filepath.Join(p.dir, "settings"))
	require.NoError(t, err)
	settings, ds := folder.Check(texts)
	assert.False(t, lang.Errors(ds), "%v", ds)
	for _, r := range trial.Expects(settings) {
		assert.False(t, r.Failed, "%s: %s", r.Rule, r.Why)
	}
	_, err = p.s.bench.BeginRule(context.Background(), q)
	assert.ErrorContains(t, err, "cannot be written", "what is there is not overwritten")
}

// A program can be brought in; a name that is taken is said; a folder means its files; what is
// written in several forms gets several sources, and all of them check.
func TestBringsInManyWays(t *testing.T) {
	p := newPlace(t, t.TempDir())
	p.open()
	defer p.crash()
	bring := func(q api.BringQuery) *api.Brought {
		b, err := p.s.bench.Bring(context.Background(), q)
		require.NoError(t, err)
		return b
	}
	b := bring(api.BringQuery{Path: "command /bin/sh -c date", Name: "tide-clock"})
	assert.Equal(t, "source tide-clock {\n  command \"/bin/sh\" \"-c\" \"date\"\n}\n", b.Text)
	assert.Contains(t, bring(api.BringQuery{Path: "command nowhere"}).Words, "a program by its path")
	assert.True(t, bring(api.BringQuery{Path: "command /nowhere/gauge"}).Offers[0].Bad)
	p.write("logs/gates.log", strings.Repeat("{\"at\":\"2026-11-24T05:00:00Z\",\"text\":\"gate shut\"}\n", 5))
	p.write("logs/pumps.log", strings.Repeat("2026-11-24 05:00:00 [Note] pump 7 low\n", 5))
	p.write("logs/pumps.log.1", strings.Repeat("2026-11-24 04:00:00 [Note] pump 7 low\n", 5))
	p.write("logs/old/deep.log", "2026-11-24 05:00:00 [Note] pump 7 low\n")
	folderOf := filepath.Join(p.dir, "logs")
	assert.Empty(t, bring(api.BringQuery{Path: folderOf, Name: "app"}).Text, "there is a source of that name")
	b = bring(api.BringQuery{Path: folderOf})
	assert.Equal(t, []int{2, 1}, []int{b.Fit, b.Copies}, "logs, with their copies; folders in it are none of its files")
	require.Len(t, b.Formats, 2)
	assert.Contains(t, b.Formats[0].What, "5 of 5 entries fit, all have a time, 2026-11-24 05:00")
	s, ds := folder.Check([]folder.Text{{Name: "t", Body: b.Text}})
	require.Empty(t, ds, b.Text)
	assert.NotNil(t, s.Source("logs"))
	assert.NotNil(t, s.Source("pumps"))
	assert.Equal(t, "logs", b.Source)
	assert.Contains(t, b.Text, `files  "`+folderOf+`/*" except "`+folderOf+`/pumps.log*"`)
}
