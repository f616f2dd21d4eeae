package export

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/store"
)

// filesReceiver writes entries into files. How long each file is, is kept with how far the delivery has
// come: what was written and not kept is cut off at the next start, so that each entry stands there once.
// All files lie below one folder, and no value of a field leads out of it.
type filesReceiver struct {
	to      *lang.Target
	zone    *time.Location
	path    []lang.Part
	dir     string // the folder, which has no field in its name
	root    *os.Root
	name    string // of the delivery
	store   *store.Store
	current map[string]*outFile // by the path that its entries ask for
	all     map[string]*outFile // by their own path
	open    []*outFile          // that have a handle, the one that was written last at the end
	told    func(words string)
}

// outFile is a file as it is kept.
type outFile struct {
	Path     string        // in the folder
	Base     string        // the path that its entries ask for
	Size     int64         // bytes
	Entries  int64         //
	Began    entry.Instant // when its first entry was written
	Wrote    entry.Instant // when its last one was
	Day      string        // date and hour of what is in it
	Finished bool          // nothing is written into it any more

	file    *os.File
	changed bool
}

// How many files are open at once, how many are written into by turns, and how long a file whose day has
// passed waits for entries that are late.
const (
	mostHandles  = 64
	mostCurrent  = 4096
	lateEntries  = 10 * time.Minute
	mostNumbered = 1_000_000
)

func newFiles(d *lang.Deliver, st *store.Store, zone *time.Location, told func(string)) *filesReceiver {
	r := &filesReceiver{to: &d.To, zone: zone, name: d.Name, store: st, told: told}
	fixed, _, _ := strings.Cut(d.To.Path, "{")
	r.dir = filepath.Clean(fixed[:strings.LastIndexByte(fixed, '/')+1])
	r.path = lang.Template(strings.TrimLeft(strings.TrimPrefix(d.To.Path, fixed[:strings.LastIndexByte(fixed, '/')+1]),
		"/"))
	return r
}

// ready opens the folder, and takes the files for what was kept of them: what was written besides is cut
// off.
func (r *filesReceiver) ready() error {
	if r.root != nil {
		return nil
	}
	was, err := r.store.Delivery(r.name)
	if err != nil {
		return err
	}
	r.current, r.all = map[string]*outFile{}, map[string]*outFile{}
	for _, k := range was.Files {
		f := &outFile{}
		if err := json.Unmarshal(k.Data, f); err != nil {
			return fmt.Errorf("what is known of %s is damaged: %w", k.Path, err)
		}
		r.all[f.Path] = f
		if old := r.current[f.Base]; !f.Finished && (old == nil || old.Began < f.Began) {
			r.current[f.Base] = f
		}
	}
	if err := os.MkdirAll(r.dir, 0o750); err != nil {
		return err
	}
	root, err := os.OpenRoot(r.dir)
	if err != nil {
		return err
	}
	var none []store.OutFile
	for _, f := range r.all {
		info, err := root.Stat(f.Path)
		switch {
		case !f.Finished && f.Entries == 0: // nothing of what was written into it was kept
			if err == nil {
				err = root.Remove(f.Path)
			}
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				root.Close()
				return err
			}
			delete(r.all, f.Path)
			if r.current[f.Base] == f {
				delete(r.current, f.Base)
			}
			none = append(none, store.OutFile{Path: f.Path})
		case errors.Is(err, fs.ErrNotExist):
			if !f.Finished && f.Size > 0 {
				r.told(fmt.Sprintf("%s is gone; what comes now goes into a new file", filepath.Join(r.dir, f.Path)))
			}
			if !f.Finished {
				f.Finished, f.changed = true, true
			}
		case err != nil:
			root.Close()
			return err
		case info.Size() > f.Size:
			if err := truncate(root, f.Path, f.Size); err != nil {
				root.Close()
				return err
			}
		case info.Size() < f.Size:
			r.told(fmt.Sprintf("%s was cut short by somebody else; what comes now goes into a new file",
				filepath.Join(r.dir, f.Path)))
			f.Finished, f.changed, f.Size = true, true, info.Size()
		}
	}
	if len(none) > 0 {
		if err := r.store.DeliverFiles(&store.Delivered{Name: r.name, Files: none}); err != nil {
			root.Close()
			return err
		}
	}
	r.root = root
	return nil
}

func truncate(root *os.Root, path string, size int64) error {
	f, err := root.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	return errors.Join(f.Truncate(size), f.Close())
}

// send writes entries.
func (r *filesReceiver) send(ctx context.Context, list []*item) error {
	if err := r.ready(); err != nil {
		return err
	}
	now := entry.Of(time.Now())
	before := map[*outFile]outFile{} // as they were, in case that something fails
	texts := map[*outFile]*bytes.Buffer{}
	var order []*outFile
	var fresh []*outFile
	for _, x := range list {
		f, err := r.fileOf(x, now)
		if err != nil {
			return r.undo(before, err)
		}
		b := texts[f]
		if b == nil {
			b = &bytes.Buffer{}
			texts[f], before[f] = b, *f
			order = append(order, f)
			if f.Size == 0 && f.Entries == 0 {
				fresh = append(fresh, f)
			}
		}
		n := b.Len()
		if err := r.write(b, x, f.Size == 0); err != nil {
			return r.undo(before, err)
		}
		if f.Entries == 0 {
			f.Began = now
		}
		f.Size, f.Entries, f.Wrote, f.changed = f.Size+int64(b.Len()-n), f.Entries+1, now, true
		f.Day = r.day(x)
	}
	if err := r.intend(fresh); err != nil {
		return r.undo(before, err)
	}
	for _, f := range order {
		if err := r.append(f, before[f].Size, texts[f].Bytes()); err != nil {
			return r.undo(before, err)
		}
	}
	return ctx.Err()
}

// undo makes files what they were; what was written to them already is written again at its place.
func (r *filesReceiver) undo(before map[*outFile]outFile, err error) error {
	for f, was := range before {
		was.file = f.file
		*f = was
	}
	return err
}

// intend keeps that files are ours before they are there: whatever is found in one later was written by
// nobody else.
func (r *filesReceiver) intend(list []*outFile) error {
	d := &store.Delivered{Name: r.name}
	for _, f := range list {
		empty := outFile{Path: f.Path, Base: f.Base, Began: f.Began, Wrote: f.Wrote, Day: f.Day}
		b, _ := json.Marshal(&empty)
		d.Files = append(d.Files, store.OutFile{Path: f.Path, Data: b})
	}
	if len(list) == 0 {
		return nil
	}
	return r.store.DeliverFiles(d)
}

// day is the date and the hour of what an entry is filed under.
func (r *filesReceiver) day(x *item) string {
	return x.filled([]lang.Part{{Field: "date"}, {Text: " "}, {Field: "hour"}}, part, r.to.Arrival, r.zone)
}

// dated tells whether the path says when its entries were, and by the hour.
func (r *filesReceiver) dated() (date, hour bool) {
	for _, p := range r.path {
		date, hour = date || p.Field == "date", hour || p.Field == "hour"
	}
	return date || hour, hour
}

// fileOf is the file for an entry.
func (r *filesReceiver) fileOf(x *item, now entry.Instant) (*outFile, error) {
	base := x.filled(r.path, part, r.to.Arrival, r.zone)
	f := r.current[base]
	if f == nil && len(r.current) >= mostCurrent {
		base = "others" + filepath.Ext(base)
		f = r.current[base]
	}
	if f != nil && !r.full(f, now) {
		return f, nil
	}
	if f != nil {
		f.Finished, f.changed = true, true
	}
	f = &outFile{Base: base}
	for n := 1; n < mostNumbered; n++ {
		f.Path = base
		if n > 1 {
			ext := filepath.Ext(base)
			f.Path = strings.TrimSuffix(base, ext) + "." + strconv.Itoa(n) + ext
		}
		if r.all[f.Path] != nil || r.there(f.Path) || r.there(f.Path+".zst") {
			continue
		}
		r.current[base], r.all[f.Path] = f, f
		return f, nil
	}
	return nil, fmt.Errorf("there are %d files like %s already", mostNumbered, base)
}

func (r *filesReceiver) there(path string) bool {
	_, err := r.root.Lstat(path)
	return err == nil
}

// full tells whether a file gets nothing more.
func (r *filesReceiver) full(f *outFile, now entry.Instant) bool {
	t := r.to
	return f.Finished || t.NewEntries > 0 && f.Entries >= t.NewEntries || t.NewSize > 0 && f.Size >= t.NewSize ||
		t.NewAfter > 0 && f.Entries > 0 && now.Sub(f.Began) >= t.NewAfter
}

// write writes an entry as it stands in its file.
func (r *filesReceiver) write(b *bytes.Buffer, x *item, first bool) error {
	switch r.to.As {
	case "json":
		b.Write(x.object())
		b.WriteByte('\n')
	case "csv":
		w := csv.NewWriter(b)
		if first && b.Len() == 0 {
			w.Write(csvHead)
		}
		w.Write(x.cells())
		w.Flush()
		return w.Error()
	default:
		b.WriteString(x.entry.Raw)
		b.WriteByte('\n')
	}
	return nil
}

// append writes behind what a file has.
func (r *filesReceiver) append(f *outFile, at int64, text []byte) error {
	if f.file == nil {
		for len(r.open) >= mostHandles {
			if err := r.shut(r.open[0]); err != nil {
				return err
			}
		}
		if dir := filepath.Dir(f.Path); dir != "." {
			if err := r.root.MkdirAll(dir, 0o750); err != nil {
				return err
			}
		}
		var err error
		if f.file, err = r.root.OpenFile(f.Path, os.O_WRONLY|os.O_CREATE, 0o640); err != nil {
			return err
		}
		r.open = append(r.open, f)
	} else if i := slices.Index(r.open, f); i >= 0 {
		r.open = append(slices.Delete(r.open, i, i+1), f)
	}
	_, err := f.file.WriteAt(text, at)
	return err
}

// shut closes a file, with what it has on the disk.
func (r *filesReceiver) shut(f *outFile) error {
	i := slices.Index(r.open, f)
	if i < 0 {
		return nil
	}
	r.open = slices.Delete(r.open, i, i+1)
	err := errors.Join(f.file.Sync(), f.file.Close())
	f.file = nil
	return err
}

func (r *filesReceiver) answers() bool { return false }

// confirm brings what was written to the disk.
func (r *filesReceiver) confirm(context.Context) error {
	for _, f := range r.open {
		if f.changed {
			if err := f.file.Sync(); err != nil {
				return err
			}
		}
	}
	return nil
}

// rows are the files that have changed, as they are kept now.
func (r *filesReceiver) rows() []store.OutFile {
	var out []store.OutFile
	for _, f := range r.all {
		if f.changed {
			b, _ := json.Marshal(f)
			out = append(out, store.OutFile{Path: f.Path, Data: b})
		}
	}
	return out
}

// kept notes that the rows are kept, and finishes what can be: files that are full, and those whose day
// has passed.
func (r *filesReceiver) kept(now entry.Instant) error {
	date, hour := r.dated()
	today := now.Time().In(r.zone).Format("2006-01-02 15")
	for _, f := range r.all {
		f.changed = false
		passed := date && f.Day != "" && now.Sub(f.Wrote) >= lateEntries &&
			(f.Day[:10] < today[:10] || hour && f.Day < today)
		if !f.Finished && !passed && !(f.Entries > 0 && r.full(f, now)) {
			continue
		}
		if err := r.finish(f); err != nil {
			return err
		}
	}
	return nil
}

// finish ends a file, compresses it where that is wanted, and forgets it.
func (r *filesReceiver) finish(f *outFile) error {
	if r.root == nil {
		return nil
	}
	if err := r.shut(f); err != nil {
		return err
	}
	if info, err := r.root.Stat(f.Path); err == nil && info.Size() > f.Size { // a try that failed left it
		if err := truncate(r.root, f.Path, f.Size); err != nil {
			return err
		}
	}
	if !f.Finished { // so that nothing more is written into it, whatever happens
		f.Finished = true
		b, _ := json.Marshal(f)
		if err := r.store.DeliverFiles(&store.Delivered{Name: r.name, Files: []store.OutFile{{Path: f.Path,
			Data: b}}}); err != nil {
			return err
		}
	}
	if r.to.Packed && r.there(f.Path) {
		if err := r.pack(f.Path); err != nil {
			return err
		}
	}
	if r.current[f.Base] == f {
		delete(r.current, f.Base)
	}
	delete(r.all, f.Path)
	return r.store.DeliverFiles(&store.Delivered{Name: r.name, Files: []store.OutFile{{Path: f.Path}}})
}

// pack compresses a file, and puts the copy in its place once it is whole.
func (r *filesReceiver) pack(path string) error {
	in, err := r.root.Open(path)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := r.root.OpenFile(path+".zst.part", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o640)
	if err != nil {
		return err
	}
	z, err := zstd.NewWriter(out)
	if err == nil {
		_, err = io.Copy(z, in)
		err = errors.Join(err, z.Close(), out.Sync())
	}
	if err = errors.Join(err, out.Close()); err == nil {
		err = r.root.Rename(path+".zst.part", path+".zst")
	}
	if err != nil {
		return errors.Join(err, r.root.Remove(path+".zst.part"))
	}
	return r.root.Remove(path)
}

func (r *filesReceiver) close() {
	for len(r.open) > 0 {
		r.shut(r.open[0]) // what was not kept is cut off at the next start
	}
	if r.root != nil {
		r.root.Close()
		r.root = nil
	}
}
