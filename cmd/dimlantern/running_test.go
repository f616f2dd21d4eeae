package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dimlantern/api"
	"dimlantern/service"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// serves lets a service run on the desk's settings, from its log's begin on, and waits until
// all of it is read. Its data folder is DIR/d.
func (d *desk) serves() {
	d.t.Helper()
	now := time.Now().UTC().Truncate(time.Second)
	var log strings.Builder
	for i, word := range []string{"low", "low", "fine", "low", "low"} {
		fmt.Fprintf(&log, "%s lock-3 pump 7: %s\n", now.Add(time.Duration(i-10)*time.Minute).Format(time.RFC3339), word)
	}
	d.write("pump.log", log.String())
	d.write("settings/harbour.lantern", strings.Replace(harbourRules, "LOG\"\n", d.log+"\"\n  begin  oldest\n", 1)+
		"contact crew {\n  command \"/bin/true\"\n}\n")
	s, err := service.Open(service.Options{Settings: d.settings, Data: filepath.Join(d.dir, "d")})
	require.NoError(d.t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 2)
	go func() { ended <- s.Run(ctx) }()
	go func() { ended <- s.Serve(ctx) }()
	d.t.Cleanup(func() {
		cancel()
		assert.NoError(d.t, <-ended)
		assert.NoError(d.t, <-ended)
	})
	require.Eventually(d.t, func() bool {
		v, err := api.AskStatus.Call(ctx, s.Desk(), api.None{})
		if err != nil || v.Reading || v.Origins != 1 || v.Open["warning"] != 1 {
			return false
		}
		c, err := net.Dial("unix", filepath.Join(d.dir, "d", "socket")) // it is there before it answers
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 20*time.Second, 5*time.Millisecond)
}

// must runs a command that goes well.
func (d *desk) must(line string) string {
	d.t.Helper()
	require.Equal(d.t, exitWell, d.run(line+" --data DIR/d"), "%s: %s", line, d.err)
	return d.out
}

// open is the identifier of the open alert.
func (d *desk) openAlert() string {
	d.t.Helper()
	id := ""
	for _, l := range strings.Split(strings.TrimSpace(d.must("history --json")), "\n") {
		var x struct{ Alert, Change string }
		require.NoError(d.t, json.Unmarshal([]byte(l), &x))
		if x.Change == "raised" {
			id = x.Alert
		}
	}
	require.NotEmpty(d.t, id)
	return id
}

// What people do from the command line is done by the service, and stands in its history.
func TestActingOnARunningService(t *testing.T) {
	d := newDesk(t)
	d.serves()
	status := d.must("status")
	for _, want := range []string{"1 rule", "1 source", "1 open"} {
		assert.Contains(t, status, want)
	}
	id := d.openAlert()
	d.must("take " + id + " --words going")
	d.must("note " + id + " greased")
	assert.Contains(t, d.must("hush "+id+" --for 2h --why strainer"), "--end")
	assert.Contains(t, d.must("hush --list"), "strainer")
	var hush struct{ ID string }
	require.NoError(t, json.Unmarshal([]byte(d.must("hush --list --json")), &hush))
	d.must("hush --end " + hush.ID)
	assert.Contains(t, d.must("hush --list"), "nothing is hushed")
	d.must("take " + id + " --undo")
	assert.Equal(t, exitFailed, d.run("take nobody --data DIR/d"))
	assert.Contains(t, d.err, "nobody")
	assert.Equal(t, exitMisused, d.run("hush "+id+" --for soon --data DIR/d"))
	assert.Contains(t, d.err, "soon")
	d.must("clear " + id + " --words strainer")
	assert.Equal(t, exitFailed, d.run("clear "+id+" --data DIR/d"), "it is over already")

	actions := d.must("history --actions")
	for _, want := range []string{"going", "greased", "strainer"} {
		assert.Contains(t, actions, want)
	}
	lines := d.must("history")
	assert.Equal(t, 2, strings.Count(lines, " raised "))
	assert.Contains(t, lines, "recovery")
	assert.Empty(t, d.must("history --from "+time.Now().Add(time.Hour).UTC().Format(time.RFC3339)))
}

// What the running service does and watches is told, for people and for scripts.
func TestAskingARunningService(t *testing.T) {
	d := newDesk(t)
	d.serves()
	assert.Contains(t, d.must("rules"), "pump-low")
	assert.Contains(t, d.must("sources"), "harbour")
	assert.Contains(t, d.must("sources"), "pump.log")
	for _, line := range []string{"rules --json", "sources --json"} {
		for _, l := range strings.Split(strings.TrimSpace(d.must(line)), "\n") {
			require.True(t, json.Valid([]byte(l)), "%s: %s", line, l)
		}
	}
	since := time.Now().Add(-time.Hour).UTC().Format(time.RFC3339)
	text := d.must("handover --since " + since)
	assert.Contains(t, text, "pump-low")
	assert.Contains(t, d.must("handover --markdown --since "+since), "# ")
	assert.Contains(t, d.must("handover --html --since "+since), "<html")
	require.True(t, json.Valid([]byte(d.must("handover --json --since "+since))))
	assert.Equal(t, exitMisused, d.run("handover --data DIR/d"))
	assert.Contains(t, d.err, "--since")
	assert.Contains(t, d.must("tell --test crew --settings SETTINGS"), "told")
	assert.NotEqual(t, exitWell, d.run("tell --test nobody --settings SETTINGS --data DIR/d"))
	assert.Contains(t, d.err, "nobody")
}

// Settings that were changed are taken up when that is said, and what is wrong in them is told.
func TestApplying(t *testing.T) {
	d := newDesk(t)
	d.serves()
	d.write("settings/more.lantern", "rule gate-stuck {\n  problem \"stuck\"\n  raise warning\n  clear after 1h "+
		"quiet\n}\n")
	d.must("apply")
	assert.Contains(t, d.must("rules"), "gate-stuck")
	d.write("settings/more.lantern", "rule gate-stuck {\n  problem\n}\n")
	assert.Equal(t, exitFailed, d.run("apply --data DIR/d"))
	assert.Contains(t, d.err, "more.lantern:2")
	assert.Contains(t, d.must("rules"), "gate-stuck", "the last good settings go on")
}
