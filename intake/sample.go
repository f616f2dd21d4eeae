package intake

import (
	"bytes"
	"context"
	"io"
	"os"

	"dimlantern/core/match"
)

// How much of a log is looked at for a sample of it, in bytes: whole files up to
// wholeFile, of longer ones pieces that are spread over them.
const (
	wholeFile  = 8 << 20
	piece      = 64 << 10
	pieces     = 96
	sampleSize = 16 << 20
)

// Sample gives pieces of whole lines of a log, as UTF-8, in the order in which they
// were written: all of it where it is short, else spread over the whole span; the
// newest lines are always among them. With all set it gives everything. Header is the
// line that names the columns of a piece. It ends with the context.
func Sample(ctx context.Context, series string, plan *match.Plan, all bool,
	each func(text []byte, header string)) error {
	files := members(series)
	first, left := len(files), int64(sampleSize)
	for first > 0 && (all || left > 0) {
		first--
		left -= min(files[first].size, wholeFile)
	}
	for i, f := range files[first:] {
		last := first+i == len(files)-1
		if err := sampleFile(ctx, f, plan, all || f.size <= wholeFile && !f.zip || last && f.size <= wholeFile,
			each); err != nil {
			return err
		}
	}
	return nil
}

func sampleFile(ctx context.Context, f found, plan *match.Plan, whole bool,
	each func(text []byte, header string)) error {
	if f.zip || whole {
		return eachPiece(ctx, f, plan, whole, each)
	}
	file, err := os.Open(f.path)
	if err != nil {
		return err
	}
	defer file.Close()
	enc := plan.EncodingOf(printOf(f.path))
	buf := make([]byte, piece)
	for i := range int64(pieces) {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		from := (f.size - piece) * i / (pieces - 1) &^ 1
		n, err := file.ReadAt(buf, from)
		if err != nil && err != io.EOF {
			return err
		}
		b := buf[:n]
		if from > 0 {
			b = b[plan.LineEnd(b, enc):]
		}
		if cut := plan.Cut(b, enc, true); cut > 0 {
			each(plan.Text(b[:cut], enc), headerBefore(file, from, plan))
		}
	}
	return nil
}

// eachPiece reads a file from its start, to its end or as far as a sample goes.
func eachPiece(ctx context.Context, f found, plan *match.Plan, whole bool,
	each func(text []byte, header string)) error {
	var r io.ReadCloser
	var err error
	if f.zip {
		r, err = Unpack(f.path)
	} else {
		r, err = os.Open(f.path)
	}
	if err != nil {
		return err
	}
	defer r.Close()
	buf := make([]byte, 1<<20)
	rest, total := 0, 0
	var enc match.Encoding
	for {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		n, err := io.ReadFull(r, buf[rest:])
		n += rest
		if total == 0 {
			enc = plan.EncodingOf(buf[:min(n, printSize)])
		}
		ended := err != nil
		cut := n
		if !ended {
			if cut = plan.Cut(buf[:n], enc, false); cut == 0 {
				cut = n
			}
		}
		if cut > 0 {
			each(bytes.Clone(plan.Text(buf[:cut], enc)), "")
		}
		if total += cut; ended || !whole && total > wholeFile {
			return nil
		}
		rest = copy(buf, buf[cut:n])
	}
}
