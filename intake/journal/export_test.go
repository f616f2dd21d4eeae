package journal

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
)

func exported(fields []Field) []byte {
	var b bytes.Buffer
	for _, f := range fields {
		if bytes.ContainsRune(f.Value, '\n') || !utf8.Valid(f.Value) {
			b.WriteString(f.Name + "\n")
			b.Write(binary.LittleEndian.AppendUint64(nil, uint64(len(f.Value))))
			b.Write(f.Value)
			b.WriteByte('\n')
		} else {
			b.WriteString(f.Name + "=" + string(f.Value) + "\n")
		}
	}
	b.WriteByte('\n')
	return b.Bytes()
}

// What the journal holds comes out as it was: texts, bytes that are none, and
// several values of one name; and its layout finds the text in it.
func TestExport(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		want := []Field{{"__CURSOR", []byte("s=1;i=2")}, {"MESSAGE", []byte(rapid.String().Draw(t, "message"))}}
		for range rapid.IntRange(0, 8).Draw(t, "fields") {
			want = append(want, Field{rapid.SampledFrom([]string{"_PID", "UNIT", "A_1"}).Draw(t, "name"),
				rapid.SliceOf(rapid.Byte()).Draw(t, "value")})
		}
		stream := append(exported(want), exported(want)...)
		r := NewExport(bytes.NewReader(stream))
		for range 2 {
			got, err := r.Next()
			require.NoError(t, err)
			require.Len(t, got, len(want))
			for i := range want {
				require.Equal(t, want[i].Name, got[i].Name)
				require.True(t, bytes.Equal(want[i].Value, got[i].Value))
			}
			line := JSON(got)
			require.True(t, json.Valid(line), "%s", line)
			require.False(t, bytes.ContainsRune(line, '\n'))
			x := (&layout.Divider{Layout: layout.Compile((&lang.Settings{}).Layout("journal"), time.UTC,
				nil)}).Divide(line, 0)
			require.True(t, x.Fits)
			for _, f := range x.Fields {
				if f.Name == "text" {
					require.Equal(t, string(want[1].Value), f.Value)
				}
			}
		}
		_, err := r.Next()
		require.Error(t, err)
	})
}

// An entry that was cut off at the end is left out; one that is too long is bounded.
func TestExportCutOff(t *testing.T) {
	whole := exported([]Field{{"MESSAGE", []byte("one\ntwo")}})
	for n := range whole {
		_, err := NewExport(bytes.NewReader(whole[:n])).Next()
		assert.Error(t, err, "%d of %d bytes", n, len(whole))
	}
	long, err := NewExport(strings.NewReader("MESSAGE=" + strings.Repeat("x", 5<<20) + "\n_PID=1\n\n")).Next()
	require.NoError(t, err)
	assert.Less(t, len(JSON(long)), match.MaxLine)
}

// FuzzExport: no stream breaks the reading of the export format.
func FuzzExport(f *testing.F) {
	f.Add(exported([]Field{{"MESSAGE", []byte("one\ntwo")}, {"_PID", []byte("7")}}))
	f.Add([]byte("A\n\xff\xff\xff\xff\xff\xff\xff\x7fx\n\n"))
	f.Fuzz(func(t *testing.T, stream []byte) {
		r := NewExport(bytes.NewReader(stream))
		for {
			fields, err := r.Next()
			if err != nil {
				return
			}
			require.True(t, json.Valid(JSON(fields)))
		}
	})
}

// The journal is followed from its cursor on; where that entry is gone, that is told.
func TestFollowsTheJournal(t *testing.T) {
	remote := "/usr/lib/systemd/systemd-journal-remote"
	if _, err := exec.LookPath("journalctl"); err != nil {
		t.Skip("journalctl is not on this machine")
	}
	if _, err := os.Stat(remote); err != nil {
		t.Skip("systemd-journal-remote is not on this machine")
	}
	dir := t.TempDir()
	ago := time.Duration(0)
	boot := "0123456789abcdef0123456789abcdef"
	write := func(name string, numbers ...int) {
		var in bytes.Buffer
		for _, n := range numbers {
			in.Write(exported([]Field{{"__REALTIME_TIMESTAMP", []byte(fmt.Sprint(time.Now().Add(-ago).UnixMicro()))},
				{"__MONOTONIC_TIMESTAMP", []byte(fmt.Sprint(1000 + n))},
				{"_BOOT_ID", []byte(boot)}, {"_HOSTNAME", []byte("lock-3")},
				{"MESSAGE", []byte(fmt.Sprintf("low %d\nbecause", n))}}))
		}
		c := exec.Command(remote, "--output="+filepath.Join(dir, name), "-")
		c.Stdin = &in
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	follow := func(begin int, cursor string, n int) (texts []string, last string, f *Feed) {
		f = New(dir, lang.Begin{How: begin}, map[string]string{Way: cursor})
		ctx, cancel := context.WithCancel(context.Background())
		ended := make(chan struct{})
		go func() { f.Run(ctx); close(ended) }()
		defer func() { cancel(); <-ended }()
		require.Eventually(t, func() bool {
			for _, m := range f.Take(100) {
				if m.Stream == Way && m.Position != "" {
					last = m.Position
				}
				if m.Text != nil {
					var e map[string]string
					require.NoError(t, json.Unmarshal(m.Text, &e))
					texts = append(texts, e["MESSAGE"])
					require.Equal(t, "lock-3", m.Host)
				}
			}
			return len(texts) >= n && !f.State().Behind
		}, 10*time.Second, 5*time.Millisecond)
		return texts, last, f
	}
	write("a.journal", 1, 2, 3)
	texts, cursor, _ := follow(lang.BeginOldest, "", 3)
	assert.Equal(t, []string{"low 1\nbecause", "low 2\nbecause", "low 3\nbecause"}, texts)
	none, now, _ := follow(lang.BeginNow, "", 0)
	assert.Empty(t, none)
	assert.Equal(t, cursor, now)
	write("b.journal", 4, 5)
	texts, _, f := follow(lang.BeginOldest, cursor, 2)
	assert.Equal(t, []string{"low 4\nbecause", "low 5\nbecause"}, texts)
	assert.Empty(t, f.Told())

	// A file that comes later is seen at once, though what it holds is older.
	f = New(dir, lang.Begin{How: lang.BeginOldest}, map[string]string{Way: cursor})
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { f.Run(ctx); close(ended) }()
	var came []string
	take := func(n int) {
		require.Eventually(t, func() bool {
			for _, m := range f.Take(100) {
				if m.Text != nil {
					var e map[string]string
					require.NoError(t, json.Unmarshal(m.Text, &e))
					came = append(came, e["MESSAGE"][:6])
				}
			}
			return len(came) >= n
		}, 15*time.Second, 5*time.Millisecond, "%v", came)
	}
	take(2)
	ago, boot = time.Hour, "fedcba9876543210fedcba9876543210"
	write("c.journal", 6, 7)
	take(4)
	ago = 0
	write("d.journal", 8)
	take(5)
	assert.ElementsMatch(t, []string{"low 4\n", "low 5\n", "low 6\n", "low 7\n", "low 8\n"}, came)
	cancel()
	<-ended
	require.NoError(t, os.Remove(filepath.Join(dir, "a.journal")))
	_, _, f = follow(lang.BeginOldest, cursor, 0)
	require.Len(t, f.Told(), 1)
}
