package service

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"dimlantern/folder"

	"dimlantern/core/lang"
	"dimlantern/core/match"
)

// secretSize is how long the key of a data folder is, in bytes.
const secretSize = 32

// Secret is the key of a data folder, by which masks make their stand-ins: the same
// value has the same one as long as the folder is there. It is made where there is
// none yet.
func Secret(data string) ([]byte, error) {
	path := filepath.Join(data, "masks.key")
	b, err := os.ReadFile(path)
	switch {
	case err == nil && len(b) == secretSize:
		return b, nil
	case err == nil:
		return nil, fmt.Errorf("%s is no key: take it away, and a new one is made; what it masked then has other "+
			"stand-ins", path)
	case !errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("%s cannot be read: %w", path, folder.Reason(err))
	}
	b = make([]byte, secretSize)
	rand.Read(b)
	if err := os.MkdirAll(data, 0o700); err != nil {
		return nil, fmt.Errorf("the data folder %s cannot be made: %w", data, folder.Reason(err))
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) { // somebody else made one just now
		return Secret(data)
	}
	if err == nil {
		_, err = f.Write(b)
		if e := f.Sync(); err == nil {
			err = e
		}
		if e := f.Close(); err == nil {
			err = e
		}
	}
	if err != nil {
		os.Remove(path)
		return nil, fmt.Errorf("%s cannot be written: %w", path, folder.Reason(err))
	}
	return b, nil
}

// sealMark begins what is sealed of the engine's state and its inputs: no state and no
// input begins so.
const sealMark = 0xfe

// seal is the engine's state, or its inputs, as they are kept: sealed where something in
// the logs is masked, since rules see it as it is.
func (s *Service) seal(b []byte) []byte {
	if len(b) == 0 || !slices.ContainsFunc(s.settings.Layouts,
		func(l *lang.Layout) bool { return len(l.Masks) > 0 }) {
		return b
	}
	return append([]byte{sealMark}, match.Sealed(s.house.Secret, b)...)
}

// unseal is what seal was given.
func (s *Service) unseal(b []byte) ([]byte, error) {
	if len(b) == 0 || b[0] != sealMark {
		return b, nil
	}
	out, ok := match.Unsealed(s.house.Secret, b[1:])
	if !ok {
		return nil, errors.New("it was sealed with another key than that of this data folder (masks.key)")
	}
	return out, nil
}
