package query

import (
	"context"
	"os"
	"testing"
	"time"

	"dimlantern/core/ask"
	"dimlantern/core/entry"
	"dimlantern/folder"
	"dimlantern/intake/reread"
)

// BenchmarkAsk asks a question of a file, as SPEED_LOG and SPEED_ASK say; SPEED_SET are the settings.
func BenchmarkAsk(b *testing.B) {
	path := os.Getenv("SPEED_LOG")
	if path == "" {
		b.Skip("SPEED_LOG names no file")
	}
	set, _ := os.ReadFile(os.Getenv("SPEED_SET"))
	settings, q, ds := Typed([]folder.Text{{Name: "s", Body: string(set)}}, os.Getenv("SPEED_ASK"))
	if q == nil {
		b.Fatal(ds)
	}
	p, err := ask.New(q, ask.Moment{Lamp: entry.Of(time.Now()), Zone: time.Local, Alone: true})
	if err != nil {
		b.Fatal(err)
	}
	x := &Asking{Settings: settings, Plan: p, Notes: reread.NewNotes(""), Cores: 1,
		Logs: []reread.Log{
			{Name: "host-a:" + path, Series: path, Only: path, Host: "host-a", Source: settings.Sources[0]},
		}}
	info, _ := os.Stat(path)
	b.SetBytes(info.Size())
	for b.Loop() {
		a, err := x.Answer(context.Background())
		if err != nil {
			b.Fatal(err)
		}
		b.ReportMetric(float64(a.Fit), "fit")
	}
}
