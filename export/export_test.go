package export

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/leodido/go-syslog/v4/rfc5424"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/proto"
	"pgregory.net/rapid"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/intake"
)

// hostile draws texts that somebody may write into a log.
func hostile(t *rapid.T, label string) string {
	return rapid.OneOf(rapid.String(), rapid.SampledFrom([]string{"", "..", "../../etc/passwd", "/etc/passwd", ".",
		"a/b", "\x00", "a\nb", "=1+1", "]\"\\", strings.Repeat("x", 5000), "\xff\xfe", "日本語", "a.b.*.>", " ",
		"\u202e", "C:\\x"})).Draw(t, label)
}

func drawItem(t *rapid.T) *item {
	e := &entry.Entry{Source: "app", Origin: "h:" + hostile(t, "origin"), Host: hostile(t, "host"),
		Raw: hostile(t, "raw"), Offset: rapid.Int64Range(0, 1<<40).Draw(t, "offset"), At: entry.None,
		Arrived: entry.Of(time.Unix(1800000000, 0))}
	if rapid.Bool().Draw(t, "timed") {
		e.At = entry.Instant(rapid.Int64Range(0, 4e18).Draw(t, "at"))
	}
	for range rapid.IntRange(0, 5).Draw(t, "fields") {
		name := rapid.OneOf(rapid.SampledFrom([]string{"level", "program", "pid", "facility", "text", "gate"}),
			rapid.StringMatching(`[a-z][a-z0-9._-]{0,40}`)).Draw(t, "name")
		e.Fields = append(e.Fields, entry.Field{Name: name, Value: hostile(t, "value")})
	}
	return &item{id: "e-1-2", entry: e, fields: e.Fields}
}

// Whatever stands in an entry, what goes out is what the formats ask for.
func TestFormsHoldAnything(t *testing.T) {
	parser := rfc5424.NewParser()
	rapid.Check(t, func(t *rapid.T) {
		x := drawItem(t)
		var object map[string]any
		require.NoError(t, json.Unmarshal(x.object(), &object), "%s", x.object())
		require.Equal(t, "e-1-2", object["id"])

		line := x.syslogLine()
		m, err := parser.Parse(line)
		require.NoError(t, err, "%q", line)
		data := *m.(*rfc5424.SyslogMessage).StructuredData
		require.Equal(t, "e-1-2", data[structuredEntry]["id"])

		var b strings.Builder
		w := csv.NewWriter(&b)
		require.NoError(t, w.Write(x.cells()))
		w.Flush()
		cells, err := csv.NewReader(strings.NewReader(b.String())).Read()
		require.NoError(t, err)
		require.Len(t, cells, len(csvHead))
		_, err = proto.Marshal(logsOf([]*item{x}))
		require.NoError(t, err)
	})
}

// No value leads out of the folder of a delivery, nor out of its place in a subject.
func TestPathsStayInTheirFolder(t *testing.T) {
	path, subject := lang.Template("{host}/{gate}{level}/{date}-{hour}.log"), lang.Template("logs.{host}.{gate}")
	rapid.Check(t, func(t *rapid.T) {
		x := drawItem(t)
		p := x.filled(path, part, rapid.Bool().Draw(t, "arrival"), time.UTC)
		require.True(t, filepath.IsLocal(p), "%q", p)
		require.Equal(t, filepath.Clean(p), p)
		require.Equal(t, 2, strings.Count(p, "/"), "%q", p)
		for _, part := range strings.Split(p, "/") {
			require.Less(t, len(part), 2*mostPart+20)
			require.False(t, strings.HasPrefix(part, "."), "%q", p)
		}
		s := x.filled(subject, token, false, time.UTC)
		require.Equal(t, 2, strings.Count(s, "."), "%q", s)
		require.NotContains(t, s, "*")
		require.NotContains(t, s, ">")
		require.Len(t, strings.Fields(s), 1, "%q", s)
	})
}

// picky is a receiver that refuses some entries for good, and some batches once.
type picky struct {
	receiver
	bad   map[string]bool
	got   []string
	fails int
	most  int // entries that it takes at once; 0 is any number
	asked int
}

func (p *picky) send(_ context.Context, list []*item) error {
	if p.fails > 0 {
		p.fails--
		return errors.New("not now")
	}
	p.asked++
	if p.most > 0 && len(list) > p.most {
		return &refusal{words: "too large", large: true}
	}
	for _, x := range list {
		if p.bad[x.id] {
			return &refusal{words: "bad entry"}
		}
	}
	for _, x := range list {
		p.got = append(p.got, x.id)
	}
	return nil
}

// What is refused for good is found and left out, in whatever batch it stands; all others come, in their
// order. One that refuses everything is not believed.
func TestRefusedAreFoundByHalves(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := &picky{bad: map[string]bool{}}
		var list []*item
		var want []string
		for i := range rapid.IntRange(1, 40).Draw(t, "entries") {
			x := &item{id: strconv.Itoa(i), entry: &entry.Entry{}}
			if list = append(list, x); rapid.IntRange(0, 5).Draw(t, "bad") == 0 {
				p.bad[x.id] = true
			} else {
				want = append(want, x.id)
			}
		}
		told := 0
		d := &delivery{site: &Site{Told: func(string) { told++ }}, of: &lang.Deliver{Name: "d"}, to: p}
		d.ctx = t.Context()
		err := d.send(list)
		require.Equal(t, want, p.got)
		if len(want) == 0 {
			require.Error(t, err, "it refuses all")
			require.Zero(t, d.kept.Refused)
			return
		}
		require.NoError(t, err)
		require.EqualValues(t, len(p.bad), d.kept.Refused)
		require.Equal(t, len(p.bad) > 0, told == 1)
	})
}

// An entry that is alone and refused is left out where the receiver took others since the last such one: so it holds
// nothing up. One that refuses what is alone again and again is not believed, and nothing is lost by that.
func TestALoneRefusalIsBelievedOnce(t *testing.T) {
	p := &picky{bad: map[string]bool{"bad": true, "worse": true}}
	d := &delivery{site: &Site{Told: func(string) {}}, of: &lang.Deliver{Name: "d"}, to: p}
	d.ctx = t.Context()
	one := func(id string) error { return d.send([]*item{{id: id, entry: &entry.Entry{}}}) }
	require.Error(t, one("bad"), "nobody knows whether it takes anything")
	require.NoError(t, one("good"))
	require.NoError(t, one("bad"))
	require.EqualValues(t, 1, d.kept.Refused)
	require.Error(t, one("worse"), "nothing was taken since")
	require.NoError(t, one("fine"))
	require.NoError(t, one("worse"))
	require.Equal(t, []string{"good", "fine"}, p.got)
}

// How much a receiver takes at once is found, and remembered.
func TestPiecesAreAsLargeAsAreTaken(t *testing.T) {
	for _, most := range []int{0, 20, 100, 700} {
		p := &picky{most: most}
		d := &delivery{of: &lang.Deliver{Name: "d"}, to: p, ctx: t.Context()}
		for i := range 50_000 {
			d.sent = append(d.sent, &item{id: strconv.Itoa(i), entry: &entry.Entry{}})
		}
		require.NoError(t, d.push())
		require.Len(t, p.got, len(d.sent))
		for i, id := range p.got {
			require.Equal(t, strconv.Itoa(i), id)
		}
		if most == 0 {
			most = batchEntries
		}
		require.Less(t, p.asked, 3*len(d.sent)/most)
	}
}

// Of what exists nowhere else no more waits than may: the newest, in bytes and in entries.
func TestHoldIsBounded(t *testing.T) {
	dir := t.TempDir()
	s, ds := lang.Check([]*lang.File{lang.Parse("s", []byte(`source app { files "`+dir+`/*.log" }
deliver d { to otlp "http://h:1" }`))}, lang.Env{ErrorsOnly: true})
	require.False(t, lang.Errors(ds), "%v", ds)
	for i := range 6 { // 100 bytes each
		path := filepath.Join(dir, fmt.Sprintf("%d.log", i))
		require.NoError(t, os.WriteFile(path, []byte(strings.Repeat("123456789\n", 10)), 0o600))
		at := time.Unix(int64(1800000000+i), 0)
		require.NoError(t, os.Chtimes(path, at, at))
	}
	for _, c := range []struct {
		bytes, entries int64
		want           int
	}{{1000, 0, 6}, {350, 0, 3}, {1, 0, 1}, {1000, 25, 2}} {
		d := &delivery{site: &Site{Count: func(string) int64 { return 10 }},
			of: &lang.Deliver{Name: "d", Buffer: c.bytes, Entries: c.entries}}
		d.follower = intake.NewFollower(intake.Options{Host: "h", NoEvents: true,
			Place: func(string, string) []byte { return nil }, Known: func(string) bool { return false }})
		src := *s.Sources[0]
		src.Begin.How = lang.BeginOldest
		d.follower.Use([]*lang.Source{&src}, map[string]*match.Plan{"app": match.NewWhole(s, &src, d.rule(), time.UTC)})
		d.follower.Look(time.Now())
		require.Len(t, d.follower.Held(), 6)
		d.hold()
		held := *d.held.Load()
		require.Len(t, held, c.want, "%+v", c)
		require.Equal(t, filepath.Join(dir, "5.log"), held[0], "the newest stays")
		d.follower.Close()
	}
}
