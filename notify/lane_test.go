package notify

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"testing"
	"time"

	"dimlantern/core/entry"
	"dimlantern/notify/via"
	"dimlantern/store"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// message is one about some alerts.
func message(id string, alerts ...string) store.Message {
	b := via.Message{ID: id}
	for _, a := range alerts {
		n := via.News{}
		n.Alert = a
		b.Alerts = append(b.Alerts, n)
	}
	body, _ := json.Marshal(b)
	return store.Message{ID: id, Body: body, State: store.Waiting}
}

// Whatever waits: each message stands in one chain, what is about the same alert stands in
// the same one and in its order, and nothing of an alert overtakes a message that failed.
func TestChains(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		now := entry.Instant(1000)
		var list []store.Message
		about := map[string][]string{}
		for i := range rapid.IntRange(0, 20).Draw(t, "messages") {
			id := fmt.Sprint("m", i)
			about[id] = rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"a", "b", "c", "d", "e"}), 0, 3,
				rapid.ID[string]).Draw(t, "alerts")
			list = append(list, message(id, about[id]...))
		}
		l := &lane{failing: map[string]failing{}}
		held := map[string]bool{} // alerts
		for range rapid.IntRange(0, 2).Draw(t, "failing") {
			if len(list) == 0 {
				break
			}
			m := &list[rapid.IntRange(0, len(list)-1).Draw(t, "which")]
			next := rapid.SampledFrom([]entry.Instant{now - 1, now + 1}).Draw(t, "next")
			l.failing[m.ID] = failing{about[m.ID], next}
		}
		for _, f := range l.failing {
			for _, a := range f.alerts {
				held[a] = held[a] || f.next > now
			}
		}
		l.failing["gone"] = failing{[]string{"z"}, now - 1}

		chains := l.chains(slices.Clone(list), now)
		assert.NotContains(t, l.failing, "gone", "somebody else has dealt with it")
		at, place := map[string]int{}, map[string]int{}
		for c, chain := range chains {
			require.NotEmpty(t, chain)
			for k, m := range chain {
				_, twice := at[m.ID]
				require.False(t, twice, "%s stands in two chains", m.ID)
				at[m.ID], place[m.ID] = c, k
			}
		}
		for i := range list {
			id := list[i].ID
			waits := slices.ContainsFunc(about[id], func(a string) bool { return held[a] })
			_, stands := at[id]
			require.Equal(t, !waits, stands, "%s about %v, held %v", id, about[id], held)
			if waits { // and so does what is about the same behind it
				for _, a := range about[id] {
					held[a] = true
				}
			}
			for j := range i {
				other := list[j].ID
				if _, is := at[other]; !stands || !is {
					continue
				}
				if slices.ContainsFunc(about[id], func(a string) bool { return slices.Contains(about[other], a) }) {
					require.Equal(t, at[other], at[id], "%s and %s are about the same", other, id)
					require.Less(t, place[other], place[id], "in their order")
				}
			}
		}
	})
}

// A message that cannot be read is one of its own, and holds up nothing.
func TestBrokenMessage(t *testing.T) {
	l := &lane{failing: map[string]failing{}}
	bad := store.Message{ID: "bad", Body: []byte("{")}
	chains := l.chains([]store.Message{bad, message("good", "a")}, 1)
	require.Len(t, chains, 2)
	assert.True(t, chains[0][0].broken)
	assert.Error(t, chains[0][0].err)
}

// Pauses double up to a bound, and never overflow.
func TestPauses(t *testing.T) {
	assert.Equal(t, FirstPause, pauseAfter(1))
	assert.Equal(t, 4*FirstPause, pauseAfter(3))
	last := time.Duration(0)
	for tries := 1; tries < 200; tries++ {
		d := pauseAfter(tries)
		assert.GreaterOrEqual(t, d, last)
		assert.LessOrEqual(t, d, mostPause)
		last = d
	}
	assert.Equal(t, mostPause, last)
}

// A way that is shut pauses as a whole; one that refuses a single message goes on with the
// others, until it has refused too many in a row; what was taken makes all of that good.
func TestWhatBecameOfMessages(t *testing.T) {
	out := func(id string, err error) *outgoing {
		m := message(id, "a")
		return &outgoing{Message: &m, alerts: []string{"a"}, err: err}
	}
	l := &lane{failing: map[string]failing{}}
	m := out("m1", errors.New("connection refused"))
	m.Tries = 1
	l.came(m)
	assert.Positive(t, l.until)
	assert.Equal(t, l.until, m.Next)
	assert.Equal(t, 1, l.pauses)
	first := l.until
	l.came(m)
	assert.Greater(t, l.until, first, "longer each time")
	m.State, m.err = store.Told, nil
	l.came(m)
	assert.Zero(t, l.until)
	assert.Zero(t, l.pauses)
	assert.Empty(t, l.failing)
}
