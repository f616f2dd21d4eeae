package query

import (
	"context"
	"slices"
	"strings"

	"dimlantern/core/ask"
	"dimlantern/core/lang"
	"dimlantern/intake"
	"dimlantern/intake/reread"
	"dimlantern/intake/spool"

	"github.com/bmatcuk/doublestar/v4"
)

// KeptFrom begins the way of an origin of a joined host whose entries are kept at the centre, before its identifier.
const KeptFrom = "joined "

// KeptLog is a log of a joined host that is kept at the centre.
type KeptLog struct {
	Reporter string // the host
	Series   string
	Source   *lang.Source // as which it is read
}

// KeptThere finds the logs of hosts that are kept in a data folder.
func KeptThere(data string) func(src *lang.Source) []KeptLog {
	k := spool.Open(data)
	return func(src *lang.Source) (out []KeptLog) {
		as := *src
		as.Files, as.Entry, as.Channels = nil, nil, []string{"joined"} // its entries stand as those of channels do
		for _, o := range k.Origins(src.Name) {
			if !strings.HasPrefix(o.Way, KeptFrom) {
				continue
			}
			var paths []string
			for _, g := range k.Globs(src.Name) {
				list, _ := doublestar.FilepathGlob(g)
				for _, p := range list {
					if x, ok := k.OriginOf(p); ok && x == o {
						paths = append(paths, p)
					}
				}
			}
			for _, g := range intake.Grouped(paths) {
				out = append(out, KeptLog{Reporter: o.Host, Series: g.Name, Source: &as})
			}
		}
		return out
	}
}

// stands adds up what is kept here of hosts that did not answer, or are no more.
func (x *Asking) stands(ctx context.Context, o *othersAnswer, absorb func(sum []byte) error) error {
	if x.Others == nil || x.Others.KeptThere == nil {
		return nil
	}
	o.mu.Lock()
	asked := slices.Clone(o.names)
	answered := map[string]bool{}
	for name, err := range o.came {
		answered[name] = err == nil
	}
	o.mu.Unlock()
	logs := map[string][]reread.Log{}
	for _, name := range x.Others.on {
		src := x.Settings.Source(name)
		if src == nil || src.KeepAtCentre == 0 {
			continue
		}
		for _, k := range x.Others.KeptThere(src) {
			if !answered[k.Reporter] && (x.Others.all || slices.Contains(asked, k.Reporter)) {
				logs[k.Reporter] = append(logs[k.Reporter], reread.Log{Name: k.Reporter + ":" + k.Series,
					Series: k.Series, Host: k.Reporter, Source: k.Source})
			}
		}
	}
	for _, host := range sorted(logs) {
		m := x.Others.moment
		m.Reporter = host
		p, err := ask.New(x.Plan.Q, m)
		if err != nil {
			return err
		}
		p.Newest = x.Plan.Newest
		part := &Asking{Settings: x.Settings, Plan: p, Store: x.Store, Notes: x.Notes, Cores: x.Cores,
			Logs: logs[host]}
		acc, out, _, err := part.add(ctx)
		if err != nil {
			return err
		}
		sum, err := acc.Encode()
		if err != nil {
			return err
		}
		if err := absorb(sum); err != nil {
			return err
		}
		o.mu.Lock()
		o.bytes, o.of, o.stood = o.bytes+out.Bytes, o.of+out.Of, append(o.stood, host)
		o.sums = append(o.sums, sum)
		o.mu.Unlock()
	}
	return nil
}
