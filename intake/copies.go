package intake

import (
	"errors"
	"io/fs"
	"os"
	"slices"
)

// part opens the files of the members, and lets go of those that are others: a member
// was compressed or taken away, and its number was given out again, or it was cut
// before it was renamed. While a file is open its number is given to no other. What
// of such a member, or of one that is gone, was not read yet is read from its copy,
// where there is one. A file under its first name that is no copy may have been
// written anew, which wasCut sees.
func (o *Origin) part(files []found) {
	for _, m := range o.place.Members {
		if m.Zip {
			o.partPacked(m, files)
			continue
		}
		if m.file != nil || len(m.Print) == 0 {
			continue
		}
		err := m.open()
		for try := 0; err != nil && try < 3 && (errors.Is(err, errOther) || errors.Is(err, fs.ErrNotExist)); try++ {
			files = o.settled() // it is being renamed, or is gone
			o.nameMembers(files)
			err = m.open()
		}
		if err == nil {
			if same, err := m.same(); err != nil || same || m.Limit == 0 && m.Path == files[len(files)-1].path {
				continue
			}
			m.close()
			m.ID, o.zips, o.dirty = Identity{}, nil, true
		}
		if c, print := o.copyOf(m); print != nil {
			m.ID, m.Print, m.from, m.Path, m.Zip, m.Limit, m.idle, o.dirty = c.id, print, 0, c.path, c.zip, 0, 0, true
			if !c.zip {
				m.Limit = c.size
			}
		}
	}
}

// partPacked lets go of a compressed file whose number was given to another one.
func (o *Origin) partPacked(m *member, files []found) {
	i := slices.IndexFunc(files, func(f found) bool { return f.zip && f.id == m.ID })
	if i < 0 || m.zip != nil || m.mod == files[i].mod || len(m.Print) == 0 {
		return
	}
	if print, ok := files[i].print(); ok && !alike(print, m.Print) {
		m.ID, o.zips, o.dirty = Identity{}, nil, true
	} else if ok {
		m.mod = files[i].mod
	}
}

// copyOf finds the copy of a member that was cut or taken away: a file that begins
// as it did, reaches as far as was read, and is not known as another.
func (o *Origin) copyOf(m *member) (found, []byte) {
	files := o.settled()
	for range 20 {
		if f, print := o.copyIn(files, m); print != nil {
			return f, print
		}
		again := o.settled()
		if sameFiles(files, again) {
			break
		}
		files = again // a copy may have been on its way to another name
	}
	return found{}, nil
}

func (o *Origin) copyIn(files []found, m *member) (found, []byte) {
	for _, f := range files {
		if f.id == m.ID || o.copied(f) {
			continue
		}
		p, ok := f.print()
		if !ok || !alike(p, m.Print) || int64(len(p)) < min(int64(len(m.Print)), m.Offset) || !f.zip &&
			f.size < m.Offset {
			continue
		}
		if d := o.finished(f); d != nil && alike(d.Print, p) {
			continue
		}
		return f, p
	}
	return found{}, nil
}

// copied tells whether a file is a copy from which the rest of a cut file is read.
func (o *Origin) copied(f found) bool {
	for _, m := range o.place.Members {
		if m.ID == f.id && m.Zip == f.zip {
			return true
		}
	}
	return false
}

// wasCut tells whether the file was cut short or written anew since it was read, and
// with which bytes it begins then. It looks into the file only where that has
// changed.
func (m *member) wasCut(f found) (now []byte, was bool) {
	if m.file != nil { // it is open, so that nothing can be mistaken in its name
		info, err := m.file.Stat()
		if err != nil {
			return nil, false
		}
		f.size, f.mod = info.Size(), info.ModTime().UnixNano()
	}
	if f.size >= m.Offset && (m.mod == f.mod && m.looked == f.size || len(m.Print) == 0) {
		return nil, false
	}
	m.mod, m.looked = f.mod, f.size
	if m.file != nil {
		now = firstBytes(m.file)
	} else {
		var ok bool
		if now, ok = f.print(); !ok {
			return nil, false
		}
	}
	if f.size >= m.Offset && begins(now, m.Print) {
		m.Print = now
		return nil, false
	}
	return now, true
}

// packedFile takes up a compressed file: the rest of a member that was compressed
// before it was read to its end, or one that came and went while nobody looked.
func (o *Origin) packedFile(f found, files []found, first bool) {
	if o.zips == nil {
		o.zips = map[Identity]int64{}
	}
	if o.zips[f.id] == f.mod {
		return
	}
	print, ok := f.print()
	if !ok || len(print) == 0 {
		return
	}
	o.zips[f.id] = f.mod
	for _, m := range o.place.Members {
		if !alike(m.Print, print) || m.Zip {
			continue
		}
		if m.file == nil && !slices.ContainsFunc(files, func(x found) bool { return x.id == m.ID && !x.zip }) {
			m.Zip, m.ID, m.Path, m.idle, m.Retired = true, f.id, f.path, 0, false
			o.dirty = true
		}
		m.packedAs = f.id
		return
	}
	for _, d := range o.place.Finished {
		if alike(d.Print, print) {
			return
		}
	}
	m := &member{ID: f.id, Print: print, Path: f.path, Zip: true}
	if first {
		if o.begin(m, f) {
			m.Offset, m.read = 0, 0
			o.insert(m)
			return
		}
		o.place.Old = max(o.place.Old, f.mod)
		o.finish(f.id, print, f.size, f.size)
		return
	}
	if f.mod >= o.place.Old {
		o.insert(m)
	}
}

// wasCut handles a file that was copied and cut, and begins with other bytes now:
// what had not been read yet is read from the copy, where there is one, and the
// file from its start.
func (o *Origin) wasCut(m *member, now []byte) {
	if f, print := o.copyOf(m); print != nil {
		c := &member{ID: f.id, Print: print, Path: f.path, Offset: m.Offset, read: m.Offset, Size: f.size,
			Limit: f.size, Cut: m.Cut, Start: m.Start}
		if f.zip { // how long it was is only known at its end
			c.Zip, c.Limit, c.Size = true, 0, m.Size
		} else {
			o.lose(m.Size-max(f.size, m.Offset), "it was written between being copied and being cut")
		}
		// It comes before what the file holds now.
		o.place.Members = slices.Insert(o.place.Members, slices.Index(o.place.Members, m), c)
	} else {
		o.lose(m.Size-m.Offset, "it was cut before it could be read")
	}
	if len(m.Print) > 0 { // a copy that is found later, compressed perhaps, is known
		o.finish(Identity{}, m.Print, m.Offset, m.Start)
	}
	m.Offset, m.read, m.Start, m.Print, m.from, m.Cut, m.cut, m.Size = 0, 0, 0, now, 0, false, false, 0
	if info, err := os.Stat(m.Path); err == nil && statOf(m.Path, info).id == m.ID {
		m.Size = info.Size()
	}
	o.dirty = true
}
