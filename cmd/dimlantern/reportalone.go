package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/ask"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/folder"
	"dimlantern/query"
	"dimlantern/report"
	"dimlantern/snapshot"
	"dimlantern/store"
)

// alone makes a report where no service runs: of the settings and of the logs as they lie there. Nothing
// is kept of it, and nobody is told.
func (o *reportOptions) alone(ctx context.Context, name string) ([]byte, string, error) {
	texts, err := folder.Read(o.settings)
	if err != nil {
		return nil, "", err
	}
	settings, ds := folder.CheckErrors(texts)
	if err := refuse(ds); err != nil {
		return nil, "", err
	}
	r := settings.Report(name)
	if r == nil {
		var names []string
		for _, x := range settings.Reports {
			names = append(names, x.Name)
		}
		return nil, "", fmt.Errorf("the settings in %s have no report %s; there are: %s", o.settings, name,
			strings.Join(names, ", "))
	}
	form := cmp.Or(o.form, r.Forms()[0])
	if !o.now {
		return nil, "", errors.New("no service runs, which keeps results: --now makes one of what is there")
	}
	var over *lang.Over
	if o.covers != "" {
		if over, err = report.ReadOver(o.covers); err != nil {
			return nil, "", err
		}
	}
	host, _ := os.Hostname()
	sn := &snapshot.Snapshot{House: &snapshot.House{Host: host, Settings: o.settings, Data: o.data}, Settings: settings,
		Texts: texts, Engine: &engine.View{}, Spent: &snapshot.Spent{}}
	m := &report.Maker{Ask: o.answer, Shift: func(ctx context.Context, q api.ShiftQuery) (*api.Shift, error) {
		st, err := store.OpenToRead(o.data)
		if err != nil {
			return nil, err
		}
		defer st.Close()
		return (&query.Asker{Window: snapshot.NewWindow(sn), Store: st}).Handover(ctx, q)
	}}
	p, _, err := m.Paper(ctx, sn, r, entry.Of(time.Now()), over)
	if err != nil {
		return nil, "", err
	}
	b, err := report.Write(p, form)
	return b, form, err
}

// answer answers a question as the command ask does.
func (o *reportOptions) answer(ctx context.Context, name string, lamp entry.Instant, over *lang.Over) (*query.Asked,
	error) {
	x, zone, err := (&askOptions{places: o.places, given: true, hasData: true}).asking(name, nil)
	if err != nil {
		return nil, err
	}
	if x.Store != nil {
		defer x.Store.Close()
	}
	q := *x.Plan.Q
	q.Over = cmp.Or(over, q.Over)
	if x.Plan, err = ask.New(&q, ask.Moment{Lamp: lamp, Zone: zone}); err != nil {
		return nil, err
	}
	return x.Answer(ctx)
}
