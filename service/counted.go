package service

import (
	"cmp"
	"context"
	"strconv"
	"time"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/measure"
	"dimlantern/core/verdict"
	"dimlantern/export"
	"dimlantern/intake"
)

// Measures are judged with the rules, behind which they stand in the plans. What they have counted is
// part of each commit: every entry counts once, whenever the service is killed.

// countBy counts by the measures of settings from now on.
func (s *Service) countBy(settings *lang.Settings) error {
	most := settings.Measures.MostSeries()
	if s.counted != nil {
		s.counted = s.counted.Use(settings.Counts, most)
		return nil
	}
	kept, err := s.store.Series()
	if err != nil {
		return err
	}
	s.counted = measure.New(settings.Counts, most, kept)
	return nil
}

// countNames are the names of the measures where rules have theirs.
func (s *Service) countNames() []string { return s.counted.Names() }

// count lets an entry count for measures, and takes their verdicts off.
func (s *Service) count(o *intake.Origin, j *verdict.Judged) {
	rules := len(s.engine.Rules()) + len(s.feeds)
	n := len(j.Verdicts)
	for n > 0 && j.Verdicts[n-1].Rule >= rules {
		n--
		v := &j.Verdicts[n]
		was := s.counted.Beyond
		s.counted.Add(v.Rule-rules, v.Key, v.Values, j.Entry.At, o.Name+" at "+strconv.FormatInt(j.Entry.Offset, 10),
			entry.Of(time.Now()))
		if was == 0 && s.counted.Beyond > 0 {
			s.notice("there are more groups of measures than " + strconv.Itoa(s.settings.Measures.MostSeries()) +
				": what is new counts as " + measure.OtherGroup +
				"; settings { measures at most N series } allows more")
		}
	}
	j.Verdicts = j.Verdicts[:n]
}

// Counted is what measures have counted until now, and how many entries found no series of their own.
func (s *Service) Counted(ctx context.Context) (list []measure.Counted, beyond int64, err error) {
	err = s.do(ctx, func() error {
		list, beyond = s.counted.Copy(entry.Of(time.Now())), s.counted.Beyond
		return nil
	})
	return list, beyond, err
}

// measures gives them out to other systems.
func (s *Service) measures() *export.Measures {
	return &export.Measures{Host: s.house.Host, Roots: s.o.Roots, Trouble: s.report,
		Settings: func() lang.Measures { return s.window.Now().Settings.Measures },
		Families: func(ctx context.Context) ([]measure.Family, error) {
			list, beyond, err := s.Counted(ctx)
			if err != nil {
				return nil, err
			}
			now := s.window.Now()
			c := &export.Counts{Beyond: beyond, Deliveries: now.Deliveries, Told: s.outbox.Told.Load(),
				Refused: s.outbox.Refused.Load()}
			if c.Waiting, err = s.store.WaitingMessages(); err == nil {
				c.StoreBytes, err = s.store.Size()
			}
			return append(measure.Families(list), export.Own(now, c, time.Now())...), err
		}}
}

// Deliveries are all deliveries, and how they stand.
func (s *Service) Deliveries(context.Context, api.None) (*api.DeliveryList, error) {
	return &api.DeliveryList{List: s.deliver.States()}, nil
}

// Measures are all measures, what they have counted, and where they go.
func (s *Service) Measures(ctx context.Context, _ api.None) (*api.MeasureList, error) {
	list, beyond, err := s.Counted(ctx)
	if err != nil {
		return nil, err
	}
	sn := s.window.Now()
	to := sn.Settings.Measures
	out := &api.MeasureList{Listen: to.Listen, To: to.To, Most: to.MostSeries(), Beyond: beyond,
		Words: cmp.Or(sn.Trouble["measures"], sn.Trouble["measures-to"])}
	for _, c := range list {
		v := api.MeasureView{Name: c.Of.Name, Out: c.Of.OutNames()[0], Shown: c.Of.Shown(), On: c.Of.On, Per: c.Of.Per,
			Off: c.Of.Off, Series: len(c.Series), Kind: measure.KindOf(c.Of)}
		for i := range c.Series {
			x := &c.Series[i]
			v.Entries, v.NoNumber, v.Negative = v.Entries+x.Count, v.NoNumber+x.NoNumber, v.Negative+x.Negative
		}
		out.List = append(out.List, v)
	}
	return out, nil
}
