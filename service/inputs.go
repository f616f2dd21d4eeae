package service

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
)

// The kinds of inputs in the journal.
const (
	inputJudged byte = iota + 1
	inputReach
	inputAdvance
	inputClear
	inputBlind
	inputSeen
	inputHold
	inputBegin
	inputAct
	inputRest
	inputForget
)

var errJournal = errors.New("the journal is damaged")

// input writes an instant that the engine was told into the journal, where it
// did something.
func (s *Service) input(kind byte, at entry.Instant, ts []engine.Transition) {
	if len(ts) == 0 {
		return
	}
	s.flushReach()
	s.batch.Journal = binary.AppendVarint(append(s.batch.Journal, kind), int64(at))
	s.note(ts)
}

// flushReach writes how far the entries have reached. What the engine was told
// before an entry must stand before it.
func (s *Service) flushReach() {
	if s.reach == entry.None {
		return
	}
	s.batch.Journal = binary.AppendVarint(append(s.batch.Journal, inputReach), int64(s.reach))
	s.reach = entry.None
}

func (s *Service) inputName(kind byte, at entry.Instant, name string, ts []engine.Transition) {
	s.flushReach()
	s.batch.Journal = binary.AppendVarint(append(s.batch.Journal, kind), int64(at))
	s.batch.Journal = binary.AppendUvarint(s.batch.Journal, uint64(len(name)))
	s.batch.Journal = append(s.batch.Journal, name...)
	s.note(ts)
}

// replayInputs gives a piece of the journal to an engine.
func replayInputs(e *engine.Engine, b []byte) error {
	for len(b) > 0 {
		kind := b[0]
		b = b[1:]
		if kind == inputJudged {
			j, rest, err := engine.DecodeJudged(b)
			if err != nil {
				return err
			}
			e.Take(j)
			b = rest
			continue
		}
		if kind == inputHold {
			bounds, rest, err := decodeBounds(b)
			if err != nil {
				return err
			}
			e.Hold(bounds)
			b = rest
			continue
		}
		v, n := binary.Varint(b)
		if n <= 0 {
			return errJournal
		}
		b = b[n:]
		at := entry.Instant(v)
		switch kind {
		case inputReach:
			e.Reach(at)
		case inputAdvance:
			e.Advance(at)
		case inputBlind, inputSeen, inputClear, inputBegin, inputAct, inputRest, inputForget:
			size, n := binary.Uvarint(b)
			if n <= 0 || size > uint64(len(b)-n) {
				return errJournal
			}
			name := string(b[n : n+int(size)])
			b = b[n+int(size):]
			switch kind {
			case inputBlind:
				e.Blind(name, at)
			case inputSeen:
				e.Seen(name, at)
			case inputBegin:
				var origins []engine.Origin
				if json.Unmarshal([]byte(name), &origins) != nil {
					return errJournal
				}
				e.Begin(at, origins)
			case inputForget:
				e.Forget(name, at)
			case inputRest:
				var x engine.Resting
				if json.Unmarshal([]byte(name), &x) != nil {
					return errJournal
				}
				e.Rest(x, at)
			case inputAct:
				var a engine.Act
				if json.Unmarshal([]byte(name), &a) != nil {
					return errJournal
				}
				e.Act(a, at)
			default:
				e.Clear(name, at, "", "")
			}
		default:
			return errJournal
		}
	}
	return nil
}

func encodeBounds(b []byte, bounds map[int]entry.Instant) []byte {
	b = binary.AppendUvarint(b, uint64(len(bounds)))
	for _, i := range slices.Sorted(maps.Keys(bounds)) {
		b = binary.AppendVarint(binary.AppendUvarint(b, uint64(i)), int64(bounds[i]))
	}
	return b
}

func decodeBounds(b []byte) (map[int]entry.Instant, []byte, error) {
	count, n := binary.Uvarint(b)
	if n <= 0 || count > uint64(len(b)) {
		return nil, nil, errJournal
	}
	b = b[n:]
	bounds := make(map[int]entry.Instant, count)
	for range count {
		i, n := binary.Uvarint(b)
		if n <= 0 {
			return nil, nil, errJournal
		}
		at, k := binary.Varint(b[n:])
		if k <= 0 {
			return nil, nil, errJournal
		}
		bounds[int(i)] = entry.Instant(at)
		b = b[n+k:]
	}
	return bounds, b, nil
}

func encodeTexts(texts []Text) []byte {
	b, _ := json.Marshal(texts)
	return b
}

func decodeTexts(b []byte) ([]Text, error) {
	var out []Text
	return out, json.Unmarshal(b, &out)
}

func sameTexts(a, b []Text) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
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
		return nil, fmt.Errorf("the data folder %s cannot be made: %w", dir, reason(err))
	}
	path := filepath.Join(dir, "lock")
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the data folder %s cannot be used: %w", dir, reason(err))
	}
	if err := lockFile(f); err != nil {
		b, _ := os.ReadFile(path)
		f.Close()
		pid, since, _ := strings.Cut(strings.TrimSpace(string(b)), " ")
		n, _ := strconv.Atoi(pid)
		return nil, &InUse{dir, n, fmt.Sprintf("process %s, since %s", pid, since)}
	}
	f.Truncate(0)
	if _, err := f.WriteAt([]byte(fmt.Sprintf("%d %s\n", os.Getpid(), time.Now().Format("2006-01-02 15:04:05"))), 0); err != nil {
		f.Close()
		return nil, fmt.Errorf("the data folder %s cannot be written: %w", dir, reason(err))
	}
	return f, nil
}
