package service

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dimlantern/api"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A glob that never fitted is blind: it is said with what would mend it, it raises, and what
// is awaited there has not been heard, over a restart too. When its log comes that is over.
func TestGlobThatNeverFitted(t *testing.T) {
	p := &place{t: t, dir: t.TempDir()}
	p.write("settings/app.lantern", fmt.Sprintf("source gauges {\n files \"%s/gauges/*.log\"\n begin "+
		"oldest\n}\nrule unseen {\n on gauges\n problem \"never\"\n per source\n raise notice\n blind raises "+
		"error after 5m\n clear by hand\n}\nrule silent {\n on gauges\n awaits \"level\"\n per origin\n raise "+
		"warning after 10m without\n}\n", p.dir))
	p.open()
	now := time.Now()
	p.step(now)
	trouble := func() string {
		st, err := p.s.query.Status(context.Background(), api.None{})
		require.NoError(t, err)
		assert.Equal(t, len(st.Trouble) == 0 && len(st.Blind) == 0, st.Well())
		return strings.Join(st.Trouble, "\n")
	}
	assert.Contains(t, trouble(), "source gauges was never seen: no file fits")
	assert.Contains(t, trouble(), "the folder "+p.dir+"/gauges is not there", "with what would mend it")
	p.step(now.Add(4 * time.Minute))
	assert.Empty(t, p.alerts())
	p.crash()
	p.open()
	p.step(now.Add(11 * time.Minute))
	assert.Equal(t, []string{"silent[" + p.s.house.Host + ":" + p.dir + "/gauges/*.log] warning",
		"unseen[gauges] error"}, p.alerts())
	require.NoError(t, os.Mkdir(filepath.Join(p.dir, "gauges"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "gauges", "north.log"), []byte("level 3\n"), 0o644))
	p.step(now.Add(12 * time.Minute))
	p.step(now.Add(12*time.Minute + time.Second))
	assert.Empty(t, p.alerts(), "%v", p.seen)
	assert.Empty(t, trouble())
	assert.Contains(t, p.seen[len(p.seen)-1], "seen")
}

// A port that another program has, and a pipe that has ended, are no quiet logs.
func TestWaysThatAreShut(t *testing.T) {
	c, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer c.Close()
	in, out := io.Pipe()
	s, _, _ := running(t, fmt.Sprintf("source boxes {\n listen syslog tcp %q\n}\nsource piped {\n input\n}\nrule "+
		"low {\n problem \"low\"\n raise error\n blind raises warning\n clear by hand\n}\n", c.Addr()), in)
	trouble := func() string {
		st, err := s.query.Status(context.Background(), api.None{})
		require.NoError(t, err)
		return strings.Join(st.Trouble, "\n")
	}
	require.Eventually(t, func() bool { return strings.Contains(trouble(), "is in use by another program") },
		patience, 10*time.Millisecond)
	assert.NotContains(t, trouble(), "piped")
	fmt.Fprintln(out, "all is well")
	require.NoError(t, out.Close())
	require.Eventually(t, func() bool { return strings.Contains(trouble(), "what was piped in has ended") }, patience,
		10*time.Millisecond)
}

// Bytes that went unread are trouble, and a full disk makes no log look read.
func TestLostAndHeldUp(t *testing.T) {
	p, _, now := ofThePast(t)
	p.at(now.Add(time.Second), "pump 1: well")
	p.append("this one is lost\n")
	p.s.follower.Missed(nil)
	p.s.follower.Look(now) // it is seen, and not read
	require.NoError(t, os.Truncate(filepath.Join(p.dir, "app.log"), 0))
	p.at(now.Add(2*time.Second), "pump 1: well")
	assert.Contains(t, strings.Join(p.s.window.Now().Troubles(), "\n"), "17 bytes were lost")

	p.s.trouble["store"], p.s.failed = "the disk is full", now
	p.s.publish(now)
	v, err := p.s.query.Sources(context.Background(), api.ViewQuery{Columns: 10, Column: time.Minute})
	require.NoError(t, err)
	assert.EqualValues(t, "held up", v.Sources[0].Origins[0].State.Condition)
	assert.Contains(t, v.Sources[0].Origins[0].State.Words, "the disk is full")
}
