package workbench

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/core/trial"
	"dimlantern/folder"
	"dimlantern/intake"
)

// benchMost is how much of the logs a sample holds at most, in bytes: 1 GiB, or an eighth
// of the memory that is left where that is less, but never less than 100 MiB.
func benchMost() int64 {
	const most, least = 1 << 30, 100 << 20
	f, err := os.Open("/proc/meminfo")
	if err != nil {
		return least
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if rest, ok := strings.CutPrefix(lines.Text(), "MemAvailable:"); ok {
			kb, _ := strconv.ParseInt(strings.TrimSpace(strings.TrimSuffix(rest, "kB")), 10, 64)
			return min(max(kb<<10/8, least), most)
		}
	}
	return least
}

// filesSample opens files that somebody names for the bench, as its rule's source: those of
// one series as one log.
func filesSample(settings *lang.Settings, r *lang.Rule, names []string, host string) (inputs []*trial.Input,
	done func(), err error) {
	var src *lang.Source
	for _, x := range settings.LookedAt(r) {
		if src == nil || len(r.On) > 0 && r.On[0] == x.Name {
			src = x
		}
	}
	if src == nil {
		return nil, nil, fmt.Errorf("the rule looks at no source as which the files could be read: on SOURCE " +
			"names one")
	}
	var paths []string
	for _, pattern := range names {
		found, err := filepath.Glob(pattern)
		if err != nil || len(found) == 0 {
			return nil, nil, fmt.Errorf("no file fits %s", pattern)
		}
		for _, f := range found {
			if info, err := os.Stat(f); err == nil && info.Mode().IsRegular() {
				paths = append(paths, f)
			}
		}
	}
	var open []io.Closer
	done = func() {
		for _, c := range open {
			c.Close()
		}
	}
	for _, g := range intake.Grouped(paths) {
		in := &trial.Input{Source: src, Path: g.Name, Near: entry.None}
		in.Origin, in.Host = trial.OriginOf(src, g.Name, host)
		for i, path := range g.Files {
			var f io.ReadCloser
			if intake.Packed(path) {
				f, err = intake.Unpack(path)
			} else {
				f, err = os.Open(path)
			}
			if err != nil {
				done()
				return nil, nil, fmt.Errorf("%s cannot be read: %w", path, folder.Reason(err))
			}
			open = append(open, f)
			in.Files = append(in.Files, f)
			if info, err := os.Stat(path); err == nil && i == 0 {
				in.Near = entry.Of(info.ModTime())
			}
		}
		inputs = append(inputs, in)
	}
	return inputs, done, nil
}

// filtered keeps the entries that have some words, capitals or not.
func filtered(settings *lang.Settings, d *trial.Said, words string) {
	want := bytes.ToLower([]byte(words))
	var out []byte
	d.Entries(match.NewPlan(settings, d.Source, nil, time.Local), func(line []byte) {
		if bytes.Contains(bytes.ToLower(line), want) {
			out = append(append(out, line...), '\n')
		}
	})
	d.Data, d.Text = out, nil
}

// heldFrom is from how many bytes on a log of a sample is not held in memory as it is: it
// stays in its files, from where the system reads it fast enough; of what is compressed it is
// held compressed otherwise.
var heldFrom int64 = 128 << 20 // tests make it smaller

// hold makes what files say one after the other the log of a sample, or so many bytes of
// their end, from the start of a line on. Read is told how much was read; kept that the files
// have to stay open.
func hold(ctx context.Context, d *trial.Said, files []io.Reader, most int64, read func(n int)) (cut, kept bool,
	err error) {
	sections, ok := sectionsOf(files)
	switch size := sections.Size(); {
	case ok && size > heldFrom:
		text := sections.Newest(most)
		d.Text, cut, kept = text, text.Size() < size, true
	case ok:
		d.Data, cut, err = tailOf(ctx, files, most, read)
	default:
		d.Text, cut, err = trial.Pack(io.MultiReader(files...), most, func(n int) error {
			read(n)
			return ctx.Err()
		})
	}
	return cut, kept, err
}

// sectionsOf are files as stretches; false where one is none, as one that is compressed.
func sectionsOf(files []io.Reader) (out trial.Sections, ok bool) {
	for _, f := range files {
		switch f := f.(type) {
		case *io.SectionReader:
			of, from, n := f.Outer()
			out = append(out, trial.Section{Of: of, From: from, N: n})
		case *os.File:
			info, err := f.Stat()
			if err != nil {
				return nil, false
			}
			out = append(out, trial.Section{Of: f, From: 0, N: info.Size()})
		default:
			return nil, false
		}
	}
	return out, true
}

// intact tells whether the files that a sample stays in are as long as they were.
func intact(said []*trial.Said) bool {
	for _, d := range said {
		sections, _ := d.Text.(trial.Sections)
		for _, x := range sections {
			f, ok := x.Of.(*os.File)
			if !ok {
				continue
			}
			if info, err := f.Stat(); err != nil || info.Size() < x.From+x.N {
				return false
			}
		}
	}
	return true
}

// tailOf reads files one after the other, and keeps so many bytes of their end, from the
// start of a line on. Read is told how much was read.
func tailOf(ctx context.Context, files []io.Reader, most int64, read func(n int)) (data []byte, cut bool, err error) {
	sections, _ := sectionsOf(files)
	data = make([]byte, 0, min(sections.Size(), most+most/2)+tailStep)
	for _, f := range files {
		for {
			data = slices.Grow(data, tailStep)
			n, err := f.Read(data[len(data):min(cap(data), len(data)+tailStep)])
			data = data[:len(data)+n]
			read(n)
			if int64(len(data)) > most+most/2 {
				data, cut = append(data[:0], data[int64(len(data))-most:]...), true
			}
			if err == io.EOF {
				break
			}
			if err != nil {
				return nil, false, err
			}
			if ctx.Err() != nil {
				return nil, false, ctx.Err()
			}
		}
	}
	if int64(len(data)) > most {
		data, cut = data[int64(len(data))-most:], true
	}
	if cut {
		data = data[bytes.IndexByte(data, '\n')+1:]
	}
	return data, cut, nil
}

// tailStep is how much is read at once.
const tailStep = 1 << 20

// kindsMost is how much of each log the kinds of entries are found in, in bytes: its newest.
const kindsMost = 100 << 20

// newestPart is the newest part of a sample, of each log as much, in so many bytes.
func newestPart(said []*trial.Said, most int64) []*trial.Said {
	var out []*trial.Said
	for _, d := range said {
		out = append(out, d.Newest(most/int64(max(len(said), 1))))
	}
	return out
}
