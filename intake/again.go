package intake

import (
	"io"
	"os"
	"slices"

	"dimlantern/core/entry"
)

// Again is what an origin has said from an instant on, as far as it has been read: the
// members of its series, oldest first.
type Again struct {
	Files  []io.Reader
	Header string // the line that names the columns, where the first file begins behind it
	Near   entry.Instant
	close  []io.Closer
}

// Close lets go of the files.
func (a *Again) Close() {
	for _, c := range a.close {
		c.Close()
	}
}

// MostAgain is how many bytes of a file are read once more at most, where nothing else is said.
const MostAgain = 256 << 20

// Again opens what has been read of an origin from an instant on, where it still is there:
// of each file its newest bytes, and no more than most. Before tells that what lay there at
// first sight, and was not read, is wanted as well.
func (o *Origin) Again(from entry.Instant, most int64, before bool) *Again {
	out := &Again{Near: entry.None}
	files := o.members()
	newest := -1 // behind it nothing has been read
	for i, f := range files {
		if o.member(f) != nil || o.finished(f) != nil {
			newest = i
		}
	}
	for _, f := range files[:newest+1] {
		if entry.Instant(f.mod) < from {
			continue
		}
		end, begun := int64(-1), int64(0)
		if m := o.member(f); m != nil {
			end, begun = m.Offset, m.Start
		} else if d := o.finished(f); d != nil {
			begun = d.Start
		}
		if before {
			begun = 0
		}
		if begun > 0 && begun >= f.size && end < 0 {
			continue // it was there before, and nothing of it was read
		}
		if out.Near == entry.None {
			out.Near = entry.Instant(f.mod)
		}
		if Packed(f.path) {
			p, err := openPacked(f.path)
			if err != nil {
				continue
			}
			out.close = append(out.close, p)
			var r io.Reader = p
			if begun > 0 {
				if _, err := io.CopyN(io.Discard, p, begun); err != nil {
					continue
				}
				end = max(end-begun, -1)
			}
			if end >= 0 {
				r = io.LimitReader(p, end)
			}
			out.Files = append(out.Files, r)
			continue
		}
		file, err := os.Open(f.path)
		if err != nil {
			continue
		}
		if end < 0 {
			end = f.size
		}
		start := min(max(o.bisect(f, from), begun), end)
		if least := end - most; start < least {
			start = endOfLine(file, least)
		}
		if len(out.Files) == 0 && start > 0 {
			out.Header = headerBefore(file, start, o.reader.Plan)
		}
		out.close = append(out.close, file)
		out.Files = append(out.Files, io.NewSectionReader(file, start, end-start))
	}
	out.Files = slices.Clip(out.Files)
	return out
}
