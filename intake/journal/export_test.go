package journal

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
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
			want = append(want, Field{rapid.SampledFrom([]string{"_PID", "UNIT", "A_1"}).Draw(t, "name"), rapid.SliceOf(rapid.Byte()).Draw(t, "value")})
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
			x := (&layout.Divider{Layout: layout.Compile((&lang.Settings{}).Layout("journal"), time.UTC)}).Divide(line, 0)
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
