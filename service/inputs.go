package service

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"dimlantern/folder"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
)

// apply tells the engine one thing, takes what comes of it into the batch, and writes it
// into the journal. It answers false where there was nothing to do.
func (s *Service) apply(in engine.Input) ([]engine.Transition, bool) {
	mark, reach := len(s.batch.Journal), s.reach
	s.flushReach()
	s.batch.Journal = engine.AppendInput(s.batch.Journal, in) // before it is applied, which may change it
	ts, did := s.engine.Apply(in)
	if !did {
		s.batch.Journal, s.reach = s.batch.Journal[:mark], reach
		return nil, false
	}
	s.record(ts)
	return ts, true
}

// reached tells the engine how far the entries have come. Only the latest of such instants
// stands in the journal, before what the engine is told next.
func (s *Service) reached(at entry.Instant) {
	ts, _ := s.engine.Apply(engine.Reach{At: at})
	s.reach = entry.Later(s.reach, at)
	if len(ts) > 0 {
		s.flushReach()
	}
	s.record(ts)
}

func (s *Service) flushReach() {
	if s.reach != entry.None {
		s.batch.Journal = engine.AppendInput(s.batch.Journal, engine.Reach{At: s.reach})
		s.reach = entry.None
	}
}

// InUse says that another service holds a data folder.
type InUse struct {
	Data string
	PID  int
	Who  string // in words: the process, and since when
}

func (e *InUse) Error() string {
	return fmt.Sprintf("the data folder %s is in use by %s", e.Data, e.Who)
}

// lockFolder takes the data folder's lock, which the system lets go of when the
// process ends, however it ends.
func lockFolder(dir string) (*os.File, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the data folder %s cannot be made: %w", dir, folder.Reason(err))
	}
	path := filepath.Join(dir, "lock")
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the data folder %s cannot be used: %w", dir, folder.Reason(err))
	}
	if err := lockFile(f); err != nil {
		b, _ := os.ReadFile(path)
		f.Close()
		pid, since, _ := strings.Cut(strings.TrimSpace(string(b)), " ")
		n, _ := strconv.Atoi(pid)
		return nil, &InUse{dir, n, fmt.Sprintf("process %s, since %s", pid, since)}
	}
	f.Truncate(0)
	if _, err := f.WriteAt([]byte(fmt.Sprintf("%d %s\n", os.Getpid(), time.Now().Format("2006-01-02 15:04:05"))),
		0); err != nil {
		f.Close()
		return nil, fmt.Errorf("the data folder %s cannot be written: %w", dir, folder.Reason(err))
	}
	return f, nil
}
