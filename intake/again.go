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
	return o.again(func(f found, begun, end int64, skipped bool) (int64, bool) {
		if entry.Instant(f.mod) < from || skipped && !before {
			return 0, false
		}
		if before {
			begun = 0
		}
		if Packed(f.path) {
			return begun, true
		}
		at := min(max(o.bisect(f, from), begun), end)
		if least := end - most; at < least {
			at = lineEndIn(f.path, least)
		}
		return at, true
	})
}

// SaidSince opens what has been read of an origin since it was as it was then; was may be nil,
// where it was not there yet.
func (o *Origin) SaidSince(was *Origin) *Again {
	return o.again(func(f found, begun, end int64, skipped bool) (int64, bool) {
		if was == nil || skipped {
			return begun, !skipped
		}
		if m := was.member(f); m != nil {
			return m.Offset, end < 0 || m.Offset < end
		}
		return begun, was.finished(f) == nil
	})
}

// again opens what has been read of each file of the series, oldest first, from where start
// says: it is given where reading began in a file, and where it is by now, which is -1 where
// that is the end of what was compressed, and whether all of it lay there at first sight, and
// was skipped; it may leave a file out.
func (o *Origin) again(start func(f found, begun, end int64, skipped bool) (from int64, wanted bool)) *Again {
	out := &Again{Near: entry.None}
	files := o.members()
	newest := -1 // behind it nothing has been read
	for i, f := range files {
		if o.member(f) != nil || o.finished(f) != nil {
			newest = i
		}
	}
	for _, f := range files[:newest+1] {
		end, begun := int64(-1), int64(0)
		if m := o.member(f); m != nil {
			end, begun = m.Offset, m.Start
		} else if d := o.finished(f); d != nil {
			begun = d.Start
		}
		skipped := end < 0 && begun > 0 && begun >= f.size
		packed := Packed(f.path)
		if end < 0 && !packed {
			end = f.size
		}
		from, wanted := start(f, begun, end, skipped)
		if !wanted {
			continue
		}
		if out.Near == entry.None {
			out.Near = entry.Instant(f.mod)
		}
		if packed {
			out.addPacked(f.path, from, end)
		} else {
			out.add(o, f.path, from, end)
		}
	}
	out.Files = slices.Clip(out.Files)
	return out
}

// lineEndIn is the place behind the line end at or after a place of a file.
func lineEndIn(path string, place int64) int64 {
	f, err := os.Open(path)
	if err != nil {
		return place
	}
	defer f.Close()
	return endOfLine(f, place)
}

// add adds a stretch of a file.
func (a *Again) add(o *Origin, path string, from, end int64) {
	file, err := os.Open(path)
	if err != nil {
		return // it has gone
	}
	from = min(from, end)
	if len(a.Files) == 0 && from > 0 {
		a.Header = headerBefore(file, from, o.reader.Plan)
	}
	a.close = append(a.close, file)
	a.Files = append(a.Files, io.NewSectionReader(file, from, end-from))
}

// addPacked adds a stretch of what a compressed file was before; an end of -1 is its own.
func (a *Again) addPacked(path string, from, end int64) {
	p, err := openPacked(path)
	if err != nil {
		return
	}
	a.close = append(a.close, p)
	var r io.Reader = p
	if from > 0 {
		if _, err := io.CopyN(io.Discard, p, from); err != nil {
			return
		}
		end = max(end-from, -1)
	}
	if end >= 0 {
		r = io.LimitReader(p, end)
	}
	a.Files = append(a.Files, r)
}

// Before is how much of an origin lay there at first sight, and was not read: so many files and bytes,
// which are those on the disk of what is compressed.
func (o *Origin) Before() (files int, bytes int64) {
	for _, f := range o.members() {
		start := int64(0)
		if m := o.member(f); m != nil {
			start = m.Start
		} else if d := o.finished(f); d != nil {
			start = d.Start
		}
		if start = min(start, f.size); start > 0 {
			files, bytes = files+1, bytes+start
		}
	}
	return files, bytes
}

// Counted notes how many entries were counted in what has been read of an origin, where that is more
// than were counted as they were read.
func (o *Origin) Counted(entries int64) {
	if entries > o.place.Entries {
		o.thaw()
		o.place.Entries, o.dirty = entries, true
	}
}

// ReadBefore notes that what lay there at first sight counts as read, too.
func (o *Origin) ReadBefore() {
	o.thaw()
	for _, m := range o.place.Members {
		m.Start = 0
	}
	for i := range o.place.Finished {
		o.place.Finished[i].Start = 0
	}
	o.place.Began, o.dirty = "with the oldest entry, of which it began again", true
}
