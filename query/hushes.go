package query

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/trial"
)

// Hushes are all hushes, those of people and those of the settings.
func (s *Asker) Hushes(context.Context, api.None) (*api.HushList, error) {
	sn := s.Window.Now()
	out := &api.HushList{List: []api.HushView{}}
	now := entry.Of(time.Now())
	for i := range sn.Hushes {
		h := &sn.Hushes[i]
		v := api.HushView{ID: h.ID, What: h.What(), By: h.By, Since: h.Since, Until: h.Until, Why: h.Why,
			Holds: h.Holds(now), Hand: true, Keeps: []string{}}
		v.When = "since " + api.Moment(h.Since) + ", until somebody ends it"
		if h.Until != 0 {
			v.When = "since " + api.Moment(h.Since) + ", until " + api.Moment(h.Until)
		}
		for _, k := range sn.HushedBy(h) {
			v.Keeps = append(v.Keeps, strings.TrimSpace(k.Rule+" "+strings.Join(k.Key, " ")))
		}
		out.List = append(out.List, v)
	}
	for _, h := range sn.Settings.Hushes {
		if h.Off {
			continue
		}
		v := api.HushView{ID: h.Name, What: h.Name, By: fmt.Sprintf("%s:%d", filepath.Base(h.Pos.File), h.Pos.Line),
			Why: h.Why, Keeps: []string{}, When: h.When()}
		if h.From != 0 {
			v.Since, v.Until = h.From, h.To
		}
		v.Holds = trial.HushHolds(h, now, sn.Zone())
		sn.Engine.Open(func(k *engine.KeyView) bool {
			if r := sn.Settings.Rule(k.Rule); v.Holds && r != nil && trial.Hushes(h, r, k.Key) {
				v.Keeps = append(v.Keeps, strings.TrimSpace(k.Rule+" "+strings.Join(k.Key, " ")))
			}
			return true
		})
		slices.Sort(v.Keeps)
		out.List = append(out.List, v)
	}
	return out, nil
}

// Past are the changes of the settings that were, the newest first.
func (s *Asker) Past(_ context.Context, q api.PastQuery) (*api.PastPuts, error) {
	list, err := s.Store.Actions("settings", 0, entry.Of(time.Now().Add(time.Hour)), min(max(q.Limit, 1), 500))
	if err != nil {
		return nil, err
	}
	out := &api.PastPuts{List: []api.PastPut{}}
	for _, a := range slices.Backward(list) {
		for _, f := range a.Files {
			out.List = append(out.List, api.PastPut{At: a.At, By: a.By, From: a.From, What: a.Words, Did: a.Did,
				File: f.File, Was: f.Was, Now: f.Now})
		}
	}
	return out, nil
}
