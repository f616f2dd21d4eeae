package hosts_test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dimlantern/hosts"
	"dimlantern/hosts/clustertest"
	"dimlantern/hosts/sim"

	"github.com/nats-io/jwt/v2"
	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"github.com/stretchr/testify/require"
)

// run starts a broker of a cluster; stop ends it, and waits for that.
func run(t *testing.T, conf string) (stop func()) {
	o, err := server.ProcessConfigFile(conf)
	require.NoError(t, err)
	o.NoSigs, o.NoLog = true, true
	s, err := server.NewServer(o)
	require.NoError(t, err)
	go s.Start()
	require.True(t, s.ReadyForConnections(20*time.Second))
	stop = func() { s.Shutdown(); s.WaitForShutdown() }
	t.Cleanup(stop)
	return stop
}

// through is a centre that goes through a cluster.
func through(t *testing.T, o *office, c *clustertest.Cluster) *hosts.Centre {
	t.Helper()
	centre, err := hosts.OpenCentre(hosts.Options{Through: c.URLs, Creds: c.Creds, Dir: t.TempDir(), Office: o,
		Values: o.values, Books: o.page, Settle: o.settle})
	require.NoError(t, err)
	t.Cleanup(centre.Close)
	return centre
}

func reached(t *testing.T, c *hosts.Centre) {
	t.Helper()
	inTime(t, "the brokers are reached", func() bool { _, err := c.Reached(); return err == nil })
}

// inTime waits for what takes brokers that choose who leads, on a machine that does other things as well.
func inTime(t *testing.T, what string, is func() bool) {
	t.Helper()
	require.Eventually(t, is, 90*time.Second, 5*time.Millisecond, what)
}

// said are the transitions of a host that a centre took.
func (o *office) said(id string) (n int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, f := range o.rows[id] {
		n += len(f.Transitions)
	}
	return n
}

// Through a cluster hosts join, get revisions, report, are asked, renew what lets them in, and are forgotten, as with
// a broker of the centre's own; each may do at the brokers what its pass says, and nothing else.
func TestThroughACluster(t *testing.T) {
	hosts.SetTryAgain(t, time.Second)
	hosts.SetPassFor(t, 3*time.Second)
	cluster := clustertest.New(t, 3)
	var stops []func()
	for _, conf := range cluster.Confs {
		stops = append(stops, run(t, conf))
	}
	o := newOffice()
	centre := through(t, o, cluster)
	reached(t, centre)
	code, _, err := centre.Invite(context.Background(), []string{"pump-*"}, 2, time.Hour, "", "mara")
	require.NoError(t, err)
	read, err := hosts.ReadCode(code.Text())
	require.NoError(t, err)
	_, err = hosts.Join(context.Background(), read, "lock-1", "1", t.TempDir(), false)
	require.ErrorContains(t, err, "for hosts called pump-*")
	data := t.TempDir()
	pump, err := sim.Join(context.Background(), read, sim.Options{Name: "pump-1", Data: data})
	require.NoError(t, err)
	defer pump.Stop()
	id, err := hosts.Joined(data)
	require.NoError(t, err)
	_, err = centre.Roll(hosts.RollQuery{To: []string{"all"}}, true)
	require.NoError(t, err)
	runs := func() int64 { s, _ := pump.State(context.Background()); return s.Runs.Number }
	inTime(t, "it runs the revision", func() bool { return runs() == 1 })

	st := cluster.Reports()
	require.Equal(t, 3, st.CachedInfo().Config.Replicas)

	// One broker after the other goes and comes back, while passes end again and again.
	whole := func() bool { return clustertest.Whole(st) }
	entries := 0
	for i, stop := range stops {
		require.Eventually(t, whole, 2*time.Minute, 50*time.Millisecond, "all brokers have what was reported")
		stop()
		for range 3 {
			entries++
			pump.Log("app", fmt.Sprintf("level %d low", entries), fmt.Sprintf("level %d fine", entries))
		}
		want := 2 * entries
		inTime(t, "it is told with two brokers", func() bool { return o.said(id.ID) == want })
		run(t, cluster.Confs[i])
	}
	was := id.Pass.Work
	inTime(t, "the host has another pass", func() bool {
		now, err := hosts.Joined(data)
		return err == nil && now.Pass.Work != was
	})

	// With its pass over, a host comes back all the same, and can be asked again.
	pump.Stop()
	work, err := jwt.DecodeUserClaims(mustJoined(t, data).Pass.Work)
	require.NoError(t, err)
	inTime(t, "the pass has ended", func() bool { return time.Now().Unix() > work.Expires })
	pump.Answerer = func(context.Context, []byte) ([]byte, error) { return []byte(`{"well":true}`), nil }
	pump.Start()
	inTime(t, "it is heard", pump.Up)
	inTime(t, "it answers", func() bool {
		ctx, end := context.WithTimeout(context.Background(), time.Second)
		defer end()
		well := false
		centre.Ask(ctx, []string{"pump-1"}, []byte(`{}`), func(_ string, b []byte, err error) {
			well = err == nil && strings.Contains(string(b), "well")
		})
		return well
	})

	// What its pass does not say is refused by the brokers.
	denied := make(chan error, 10)
	hand, err := nats.Connect(cluster.URLs[1], nats.UserJWTAndSeed(mustJoined(t, data).Pass.Work, id.Seed),
		nats.RootCAs(filepath.Join(cluster.Dir, "centre.creds")), nats.CustomInboxPrefix("_INBOX_"+id.ID),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) { denied <- err }))
	require.NoError(t, err)
	defer hand.Close()
	hand.Publish("lantern.up.other", []byte("{}"))
	wantDenied(t, hand, denied, "a report under another's name")
	hand.Subscribe("lantern.up.*", func(*nats.Msg) {})
	wantDenied(t, hand, denied, "reading what hosts report")
	hand.Publish("$JS.API.STREAM.DELETE.LANTERN-UP", nil)
	wantDenied(t, hand, denied, "deleting what hosts report")

	keep, err := centre.Forget("pump-1")
	require.NoError(t, err)
	require.NoError(t, o.Keep(context.Background(), keep))
	inTime(t, "the host has no centre any more", func() bool { return !pump.Up() })
	ended, err := nats.Connect(cluster.URLs[2], nats.UserJWTAndSeed(mustJoined(t, data).Pass.Door, id.Seed),
		nats.RootCAs(filepath.Join(cluster.Dir, "centre.creds")), nats.CustomInboxPrefix("_INBOX_"+id.ID))
	require.NoError(t, err)
	defer ended.Close()
	b, _ := json.Marshal(map[string]string{"key": "U"})
	m, err := ended.Request("lantern.ask."+id.ID+".pass", b, 5*time.Second)
	require.NoError(t, err)
	require.Contains(t, string(m.Data), "not joined any more")
}

func mustJoined(t *testing.T, data string) *hosts.Identity {
	id, err := hosts.Joined(data)
	require.NoError(t, err)
	return id
}

// What keeps a centre from its cluster is said in words, and is tried again by itself.
func TestClusterThatCannotBeUsed(t *testing.T) {
	hosts.SetTryAgain(t, 200*time.Millisecond)
	cluster := clustertest.New(t, 1)
	write := func(text string) { require.NoError(t, os.WriteFile(cluster.Creds, []byte(text), 0o600)) }
	whole := cluster.User + "\n" + cluster.Account + "\n" + cluster.Root
	other := clustertest.New(t, 1)
	write("")
	centre := through(t, newOffice(), cluster)
	why := func() string {
		_, err := centre.Reached()
		return fmt.Sprint(err)
	}
	wants := func(words string) {
		t.Helper()
		inTime(t, words+" instead of: "+why(), func() bool { return strings.Contains(why(), words) })
	}
	wants("has no user's token")
	write(cluster.User)
	wants("has no account's key")
	require.NoError(t, os.Remove(cluster.Creds))
	wants("cannot be read")
	_, _, err := centre.Invite(context.Background(), nil, 1, time.Hour, "", "mara")
	require.ErrorContains(t, err, "cannot be read")
	write(whole)
	wants("none of them answers")
	run(t, cluster.Confs[0])
	write(cluster.User + "\n" + cluster.Account)
	wants("who signed their certificates is not known here")
	write(other.User + "\n" + other.Account + "\n" + cluster.Root)
	wants("do not let the centre in")
	write(cluster.User + "\n" + other.Account + "\n" + cluster.Root)
	wants("do not take what the account's key")
	write(whole)
	reached(t, centre)

	second := through(t, newOffice(), cluster)
	inTime(t, "an account is for one centre", func() bool {
		_, err := second.Reached()
		return err != nil && strings.Contains(err.Error(), "used by another centre already")
	})
}
