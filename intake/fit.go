package intake

import (
	"bytes"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/layout"
	"dimlantern/core/match"
)

// fit is how well the newest entries of an origin fit its layout. It looks at some
// of what comes, not at all of it.
type fit struct {
	looked  [64]bool // whether they fitted, as a ring
	n, at   int
	misfits int
	example string // the newest one that did not fit
	last    time.Time
	all     int64 // looked at since it is known
	allBad  int64 // of them
	divider layout.Divider
}

// How many entries of a slab are looked at, and how often.
const (
	fitSample = 4
	fitEvery  = 100 * time.Millisecond
)

// came looks at some lines of a slab.
func (f *fit) came(p *match.Plan, header string, slab []byte, now time.Time) {
	if now.Sub(f.last) < fitEvery && f.n >= len(f.looked) {
		return
	}
	f.last, f.divider.Layout, f.divider.Header = now, p.Layout, header
	at := max(0, len(slab)-16<<10)
	if at > 0 {
		at += bytes.IndexByte(slab[at:], '\n') + 1
	}
	for range fitSample {
		end := bytes.IndexByte(slab[at:], '\n')
		if end < 0 {
			return
		}
		line := bytes.TrimSuffix(slab[at:at+end], []byte{'\r'})
		if len(line) > 0 {
			if p.Layout.Headed() && f.divider.See(line) {
				at += end + 1
				continue
			}
			x, text := p.Shown(&f.divider, line, entry.Of(now))
			f.add(x.Fits, text)
		}
		at += end + 1
	}
}

func (f *fit) add(fits bool, line string) {
	if f.n == len(f.looked) && !f.looked[f.at] {
		f.misfits--
	}
	f.n = min(f.n+1, len(f.looked))
	f.all++
	if !fits {
		f.allBad++
	}
	f.looked[f.at] = fits
	f.at = (f.at + 1) % len(f.looked)
	if !fits {
		f.misfits++
		f.example = entry.Visible(line[:min(len(line), 200)])
	}
}

// Fitted is how many entries of the origin were looked at since it is followed, and how
// many of them did not fit.
func (o *Origin) Fitted() (looked, misfits int64) { return o.fit.all, o.fit.allBad }

// no tells whether most of the newest entries do not fit.
func (f *fit) no() bool { return f.n >= 16 && f.misfits*2 > f.n }
