package snapshot

import (
	"context"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/core/trial"
	"dimlantern/intake"
)

// Recount hands on how much of an origin has been read, in stretches with the times that new settings
// read in it. The origin is frozen; the context ends it early.
func Recount(ctx context.Context, settings *lang.Settings, o *intake.Origin, tick func(match.Tick)) error {
	src := settings.Source(o.Source.Name)
	if src == nil {
		return nil
	}
	said := o.SaidSince(nil)
	defer said.Close()
	in := &trial.Input{Source: src, Path: o.Series, Host: o.Host, Origin: o.Name, Files: said.Files,
		Near: said.Near, Header: said.Header, Skew: o.Skew()}
	_, err := trial.Rebuild(settings, nil, []*trial.Input{in}, trial.Options{Zone: time.Local, Stop: ctx.Err,
		Tick: func(_ string, t match.Tick) { tick(t) }})
	return err
}

// OwnTime is the time that an entry gives itself under a plan; None where it gives none. Times
// without a year lie near the instant.
func OwnTime(plan *match.Plan, text string, near entry.Instant) entry.Instant {
	r := match.NewReader(plan, "", "", false)
	r.Near = near
	own, _ := r.Times([]byte(text), near)
	return own
}
