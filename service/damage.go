package service

import (
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/snapshot"

	"dimlantern/folder"

	"dimlantern/core/entry"
	"dimlantern/store"
)

// rescueFile holds what the service knew when the database was found to be damaged.
const rescueFile = "rescue.json"

// rescue is what is needed to go on without the database: the rest is history.
type rescue struct {
	At       entry.Instant     `json:"at"`
	Settings []folder.Text     `json:"settings"`
	Snapshot []byte            `json:"snapshot"`
	Places   []store.Place     `json:"places"`
	Sources  []string          `json:"sources"`
	Meta     map[string][]byte `json:"meta"`
}

// checkEvery is how long lies between two looks at the whole database at least, and checkShare
// how many times as long as a look takes.
const (
	checkEvery = 30 * time.Second
	checkShare = 1000
)

// checks looks at the database again and again, beside the work.
func (s *Service) checks(ctx context.Context) {
	wait, was := time.Second, false
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		began := time.Now()
		found := s.store.Check()
		wait = max(checkEvery, checkShare*time.Since(began))
		if found == nil {
			if was {
				s.report(ctx, "damage", "")
			}
			was = false
			continue
		}
		words := "the database " + found.What + "; what is open and how far everything was read is kept in " +
			rescueFile + ": start Dim Lantern anew, and it goes on from there"
		if err := s.saveRescue(ctx); err != nil {
			words = "the database " + found.What + ", and what is known cannot be kept beside it: " + err.Error()
		}
		if s.report(ctx, "damage", words); !was {
			s.do(ctx, func() error { s.notice(words); return nil })
			s.o.Log.Error(words)
		}
		was = true
	}
}

// saveRescue writes down what is known without the database.
func (s *Service) saveRescue(ctx context.Context) error {
	var x *rescue
	if err := s.do(ctx, func() error { x = s.known(); return nil }); err != nil {
		return err
	}
	return x.write(s.o.Data)
}

// known is what is known without the database.
func (s *Service) known() *rescue {
	x := &rescue{At: entry.Of(time.Now()), Settings: s.texts, Snapshot: s.seal(s.engine.Encode()),
		Meta: map[string][]byte{}}
	for _, o := range s.follower.Origins() {
		x.Places = append(x.Places, store.Place{Source: o.Source.Name, Series: o.Series, Origin: o.Name,
			Data: o.MarshalPlace()})
	}
	for _, src := range s.settings.Sources {
		if s.store.Knows(src.Name) {
			x.Sources = append(x.Sources, src.Name)
		}
	}
	for name, v := range map[string]any{"taken": s.decider.Taken, "hushes": s.decider.Hushes} {
		x.Meta[name], _ = json.Marshal(v)
	}
	return x
}

// write puts it into the data folder.
func (x *rescue) write(data string) error {
	b, err := json.Marshal(x)
	if err != nil {
		return err
	}
	path := filepath.Join(data, rescueFile)
	if err := os.WriteFile(path+".part", b, 0o600); err != nil {
		return fmt.Errorf("%s cannot be written: %w", path, folder.Reason(err))
	}
	return os.Rename(path+".part", path)
}

// takeRescue takes up what was kept beside a database that was damaged, and remembers that
// it was until somebody confirms it.
func (s *Service) takeRescue() error {
	path := filepath.Join(s.o.Data, rescueFile)
	if s.store.Damage == nil {
		if b, err := s.store.Meta("anew"); err == nil && len(b) > 0 {
			s.trouble["anew"] = string(b) + confirm
		}
		return nil
	}
	batch := store.Batch{Now: entry.Of(time.Now()), Meta: map[string][]byte{}}
	words := api.Moment(batch.Now) + ": " + s.store.Damage.Error()
	var x rescue
	if b, err := os.ReadFile(path); err == nil && json.Unmarshal(b, &x) == nil {
		for name, v := range x.Meta {
			batch.Meta[name] = v
		}
		batch.Meta["settings"] = folder.Encode(x.Settings)
		batch.Snapshot, batch.Places, batch.Sources = x.Snapshot, x.Places, x.Sources
		words += "; what was open, and how far everything had been read, is as it was at " + api.Moment(x.At)
	}
	batch.Meta["anew"] = []byte(words)
	if err := s.store.Commit(&batch); err != nil {
		return err
	}
	s.trouble["anew"] = words + confirm
	s.o.Log.Error(words)
	err := os.Remove(path)
	if os.IsNotExist(err) {
		err = nil
	}
	return err
}

// confirm is said behind what somebody should know of before it is forgotten.
const confirm = "; dimlantern apply confirms that you know"

// ours are the names of what Dim Lantern writes into its data folder.
var ours = []string{"lantern.", "lock", "masks.key", "socket", "kept", rescueFile, snapshot.ItselfFolder,
	snapshot.ItselfFile}

// tighten lets nobody else read what is in the data folder, whoever made it. A folder that
// holds what is not Dim Lantern's keeps its own rights.
func tighten(dir string) error {
	list, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	mine := func(name string) bool {
		return slices.ContainsFunc(ours, func(o string) bool { return strings.HasPrefix(name, o) })
	}
	alone := true
	for _, e := range list {
		if !mine(e.Name()) {
			alone = false
			continue
		}
		err := filepath.WalkDir(filepath.Join(dir, e.Name()), func(path string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() && !d.IsDir() {
				return nil
			}
			return narrow(path, d)
		})
		if err != nil {
			return err
		}
	}
	if info, err := os.Stat(dir); err == nil && alone && info.Mode()&os.ModeSticky == 0 {
		return narrow(dir, fs.FileInfoToDirEntry(info))
	}
	return nil
}

func narrow(path string, d fs.DirEntry) error {
	info, err := d.Info()
	if err != nil || info.Mode().Perm()&0o077 == 0 {
		return nil
	}
	if err := os.Chmod(path, info.Mode().Perm()&0o700); err != nil {
		return fmt.Errorf("%s can be read by others, and its rights cannot be changed: %w", path, folder.Reason(err))
	}
	return nil
}
