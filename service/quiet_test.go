package service

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dimlantern/api"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/entry"
)

// quietPlace is a place with a contact that a webhook stands for, whose service runs.
func quietPlace(t *testing.T, settings string) (*place, *box) {
	srv, b, _ := hook(t)
	p := newPlace(t, t.TempDir())
	p.write("settings/who.lantern", strings.ReplaceAll(settings, "HOOK", srv.URL))
	p.append("")
	runs(t, p, nil)
	return p, b
}

// heardOf is what a receiver was told, as CHANGE RULE KEY.
func heardOf(t *testing.T, b *box) (out []string) {
	for _, body := range b.all() {
		for _, a := range read(t, body).Data.Alerts {
			var key []string
			for _, f := range a.Fields {
				key = append(key, a.Key[f])
			}
			out = append(out, strings.TrimSpace(a.Change+" "+a.Rule+" "+strings.Join(key, " ")))
		}
	}
	return out
}

// comes waits until a receiver has been told exactly these, and shortly nothing else.
func comes(t *testing.T, b *box, want ...string) {
	t.Helper()
	require.Eventually(t, func() bool { return len(heardOf(t, b)) >= len(want) }, patience, 20*time.Millisecond, "%v",
		want)
	time.Sleep(700 * time.Millisecond) // what must not come has no sign by which to await it
	assert.Equal(t, want, heardOf(t, b))
}

func (p *place) open1(t *testing.T) string {
	t.Helper()
	var id string
	require.Eventually(t, func() bool {
		v, err := p.s.query.View(context.Background(), api.ViewQuery{Column: time.Minute, Columns: 30})
		if err == nil && len(v.Open) == 1 {
			id = v.Open[0].Alert
		}
		return id != ""
	}, patience, 20*time.Millisecond)
	return id
}

func (p *place) act(t *testing.T, q api.ActQuery) *api.ActDone {
	t.Helper()
	q.By, q.From = "mira", "lock-3 pts/1"
	done, err := p.s.Act(context.Background(), q)
	require.NoError(t, err)
	return done
}

// What is hushed by hand, by the settings, or stands in a shadow is told nobody; what is
// still open when that ends is told then, once.
func TestKeptQuiet(t *testing.T) {
	t.Parallel()
	now := time.Now().UTC()
	p, b := quietPlace(t, fmt.Sprintf(`settings { tell duty }
contact duty { webhook "HOOK" }
rule flood {
  problem "flood"
  recovery "dry"
  per     host
  raise   critical
}
rule leak {
  problem "leak"
  recovery "dry"
  per     host
  raise   warning
  unless  flood open same host
}
hush works {
  where host == "h9"
  from  %s to %s
}
`, now.Add(-time.Hour).Format(time.RFC3339), now.Add(time.Hour).Format(time.RFC3339)))
	p.say("h9 leak")
	p.say("h1 flood")
	comes(t, b, "raised flood h1")
	p.say("h1 leak")
	hushed := p.act(t, api.ActQuery{What: "hush", Hush: &api.ByHand{Host: "h2"}, Words: "moved"})
	p.say("h2 flood")
	comes(t, b, "raised flood h1")
	list, err := p.s.query.Hushes(context.Background(), api.None{})
	require.NoError(t, err)
	require.Len(t, list.List, 2)
	assert.Equal(t, []string{"flood h2"}, list.List[0].Keeps)
	assert.Equal(t, []string{"leak h9"}, list.List[1].Keeps)
	p.act(t, api.ActQuery{What: "unhush", Hush: &api.ByHand{ID: hushed.Hush}})
	comes(t, b, "raised flood h1", "raised flood h2")

	// The shadow ends while its alert is over as well: nothing is told of that but its end.
	p.say("h3 flood")
	comes(t, b, "raised flood h1", "raised flood h2", "raised flood h3")
	p.say("h3 leak")
	require.Eventually(t, func() bool {
		v, _ := p.s.query.View(context.Background(), api.ViewQuery{Column: time.Minute, Columns: 30})
		return len(v.Open) == 6
	}, patience, 20*time.Millisecond)
	p.write("settings/who2.lantern", "")
	_, err = p.s.bench.Put(context.Background(), api.PutQuery{Block: &api.BlockChange{Kind: "rule", What: "off",
		Of: "flood"},
		Do: true})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		got := strings.Join(heardOf(t, b), "\n")
		return strings.Contains(got, "raised leak h1") && strings.Contains(got, "raised leak h3") &&
			!strings.Contains(got, "h9")
	}, patience, 20*time.Millisecond)
	actions, err := p.s.store.Actions("", 0, 1<<62, 100)
	require.NoError(t, err)
	var did []string
	for _, a := range actions {
		did = append(did, a.What+" by "+a.By)
	}
	assert.Equal(t, []string{"hush by mira", "unhush by mira", "settings by somebody"}, did)
	lines := 0
	require.NoError(t, p.s.store.Lines(0, entry.None, func(_ int64, line string) {
		if strings.Contains(line, `"untold":"hush"`) || strings.Contains(line, `"untold":"shadow of flood"`) {
			lines++
		}
	}))
	assert.Equal(t, 4, lines, "h9 and h2 are hushed, the leaks of h1 and h3 stand in a shadow")
}

// Who has taken an alert keeps it from being told again and from going on to others; handed
// over and let go, it goes on. A contact is told within its hours, from its severity on, of
// the changes that it asks for.
func TestTakenAndHours(t *testing.T) {
	t.Parallel()
	now := time.Now().UTC()
	closed := fmt.Sprintf("%s-%s", now.Add(2*time.Hour).Format("15:04"), now.Add(3*time.Hour).Format("15:04"))
	p, b := quietPlace(t, `settings {
  tell duty, closed, bad, ends
  zone "UTC"
}
contact duty { webhook "HOOK/duty" }
contact closed {
  webhook "HOOK/closed"
  hours `+closed+`
}
contact bad {
  webhook "HOOK/bad"
  from critical
}
contact ends {
  webhook "HOOK/ends"
  on cleared
}
contact boss { webhook "HOOK/boss" }
rule flood {
  problem "flood"
  recovery "dry"
  per     host
  raise   warning
  raise   critical after 2s open untaken
  remind  every 1s
  tell    duty, closed, bad, ends
  unless  taken in 1s tell boss
}
`)
	p.say("h1 flood")
	id := p.open1(t)
	p.act(t, api.ActQuery{What: "take", Alert: id, Words: "on my way"})
	v, err := p.s.query.View(context.Background(), api.ViewQuery{Column: time.Minute, Columns: 30})
	require.NoError(t, err)
	assert.Equal(t, "mira", v.Open[0].Taken)
	time.Sleep(2500 * time.Millisecond) // the times of the rule, which are what is tried
	for _, x := range heardOf(t, b) {
		assert.Equal(t, "raised flood h1", x, "neither told again, nor worse, nor told to the boss")
	}
	k, _ := p.s.engine.Find(id)
	assert.Equal(t, entry.Warning, k.Severity)
	p.act(t, api.ActQuery{What: "hand over", Alert: id, To: "tolan"})
	p.act(t, api.ActQuery{What: "let go", Alert: id})
	require.Eventually(t, func() bool {
		return strings.Contains(strings.Join(heardOf(t, b), "\n"),
			"worsened flood h1")
	}, patience, 20*time.Millisecond)
	p.say("h1 dry")
	require.Eventually(t, func() bool {
		return strings.Contains(strings.Join(heardOf(t, b), "\n"),
			"cleared flood h1")
	}, patience, 20*time.Millisecond)
	p.say("h2 flood")
	require.Eventually(t, func() bool {
		for _, body := range b.all() {
			if e := read(t, body); e.Data.Contact == "boss" && e.Data.Alerts[0].Key["host"] == "h2" {
				return true
			}
		}
		return false
	}, patience, 20*time.Millisecond, "nobody takes it: the boss is told")
	by := map[string]map[string]bool{}
	for _, body := range b.all() {
		e := read(t, body)
		if by[e.Data.Contact] == nil {
			by[e.Data.Contact] = map[string]bool{}
		}
		for _, a := range e.Data.Alerts {
			by[e.Data.Contact][a.Change] = true
		}
	}
	assert.Empty(t, by["closed"])
	assert.NotContains(t, by["bad"], "raised")
	assert.Equal(t, map[string]bool{"cleared": true}, by["ends"])
	waits, err := p.s.store.Waits("closed", 100)
	require.NoError(t, err)
	require.NotEmpty(t, waits)
	assert.Equal(t, now.Add(2*time.Hour).Truncate(time.Minute), waits[0].Due.Time().UTC())
}

// After the program was down there is one summary of what was raised and cleared meanwhile
// and of what is open; what lay before first sight is told only where it is open still.
func TestCaughtUpInOneMessage(t *testing.T) {
	t.Parallel()
	srv, b, _ := hook(t)
	p := newPlace(t, t.TempDir())
	p.write("settings/who.lantern", fmt.Sprintf("settings { tell duty }\ncontact duty { webhook %q }\n", srv.URL))
	at := time.Now().UTC().Add(-2 * time.Hour)
	log := func(host, text string) {
		at = at.Add(time.Second)
		p.append(at.Format(time.RFC3339) + " " + host + " " + text + "\n")
	}
	for _, h := range []string{"a", "b"} {
		log(h, "pump 7 low")
		log(h, "pump 7 low")
	}
	log("a", "pump 7 fine")
	at = time.Now().UTC().Add(-20 * time.Second)
	log("c", "pump 7 low")
	log("c", "pump 7 low")
	stop := runs(t, p, nil)
	first := read(t, b.await(t, 1)[0])
	assert.Equal(t, "dim-lantern.caught-up", first.Type)
	require.Len(t, first.Data.Alerts, 1, "b has been quiet since, and a is over: only c is open")
	assert.Equal(t, "c", first.Data.Alerts[0].Key["host"])
	stop()
	log("d", "pump 7 low")
	log("d", "pump 7 low")
	log("d", "pump 7 fine")
	log("e", "pump 7 low")
	log("e", "pump 7 low")
	stop = runs(t, p, nil)
	second := read(t, b.await(t, 2)[1])
	var got []string
	for _, a := range second.Data.Alerts {
		got = append(got, a.Change+" "+a.Key["host"])
	}
	assert.Equal(t, []string{"raised e", "cleared d"}, got)
	p.say("e pump 7 fine")
	third := read(t, b.await(t, 3)[2])
	assert.Equal(t, "dim-lantern.alert.cleared", third.Type)
	stop()
	runs(t, p, nil)
	time.Sleep(time.Second)
	assert.Len(t, b.all(), 3, "nothing is told twice")
}

// A message that is being sent when the service ends is waited for: its yes counts, and after the next
// start it is not told again.
func TestYesComesAtTheEnd(t *testing.T) {
	t.Parallel()
	srv, b, answer := hook(t)
	came, say := make(chan struct{}, 1), make(chan struct{})
	*answer = func(_ http.ResponseWriter, r *http.Request) bool {
		body, _ := io.ReadAll(r.Body)
		if b.put(string(body)); len(b.all()) == 1 {
			came <- struct{}{}
			<-say
		}
		return true
	}
	p := newPlace(t, t.TempDir())
	p.write("settings/who.lantern", fmt.Sprintf("settings { tell duty }\ncontact duty { webhook %q }\n", srv.URL))
	stop := runs(t, p, nil)
	p.say("a pump 7 low")
	p.say("a pump 7 low")
	<-came
	time.AfterFunc(300*time.Millisecond, func() { close(say) })
	stop()
	runs(t, p, nil)
	p.say("a pump 7 fine")
	assert.Equal(t, "dim-lantern.alert.cleared", read(t, b.await(t, 2)[1]).Type)
}

// Templates of the settings folder are used, and one that is not right is told by check and
// does not keep anybody from being told.
func TestTemplates(t *testing.T) {
	t.Parallel()
	p, b := quietPlace(t, "settings { tell duty }\ncontact duty { webhook \"HOOK\" }\n")
	p.write("settings/message-subject.tmpl", `HARBOUR {{range .Alerts}}{{.Rule}} {{.Head}}{{end}}`)
	p.say("a pump 7 low")
	p.say("a pump 7 low")
	assert.Equal(t, "HARBOUR low warning", read(t, b.await(t, 1)[0]).Data.Subject)
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "settings", "message-subject.tmpl"), []byte(`{{.Nothing}}`),
		0o644))
	p.say("a pump 7 fine")
	assert.Contains(t, read(t, b.await(t, 2)[1]).Data.Subject, "; over at a after ")
}

// Who has taken what, hushes, and what they keep quiet outlive a restart.
func TestHandlingOutlivesARestart(t *testing.T) {
	t.Parallel()
	srv, b, _ := hook(t)
	p := newPlace(t, t.TempDir())
	p.write("settings/who.lantern", fmt.Sprintf("settings { tell duty }\ncontact duty { webhook %q }\nrule flood "+
		"{\n  problem \"flood\"\n  per host\n  raise error\n  clear by hand\n}\n", srv.URL))
	p.append("")
	stop := runs(t, p, nil)
	p.say("h1 flood")
	id := p.open1(t)
	p.act(t, api.ActQuery{What: "take", Alert: id})
	hushed := p.act(t, api.ActQuery{What: "hush", Hush: &api.ByHand{Host: "h2"}})
	p.say("h2 flood")
	comes(t, b, "raised flood h1")
	stop()
	runs(t, p, nil)
	v, err := p.s.query.View(context.Background(), api.ViewQuery{Column: time.Minute, Columns: 30})
	require.NoError(t, err)
	require.Len(t, v.Open, 2)
	assert.Equal(t, []string{"mira", ""}, []string{v.Open[0].Taken, v.Open[1].Taken})
	comes(t, b, "raised flood h1")
	p.act(t, api.ActQuery{What: "unhush", Hush: &api.ByHand{ID: hushed.Hush}})
	comes(t, b, "raised flood h1", "raised flood h2")
}
