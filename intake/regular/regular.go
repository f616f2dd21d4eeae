// Package regular reads small files that people name: settings, templates, secrets. A path
// comes in, its bytes go out, or in words why not. A pipe or a device is never waited for,
// and no more is read than what is asked for.
package regular

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"syscall"
)

// Why a file is not read.
var (
	ErrNoFile  = errors.New("it is no file, but a folder, a pipe, a socket or a device")
	ErrTooLong = errors.New("it is longer than such a file may be")
)

// Open opens a file for reading, and nothing else: a pipe without a writer does not keep
// the caller waiting.
func Open(path string) (*os.File, fs.FileInfo, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "read", Path: path, Err: ErrNoFile}
	}
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return f, info, nil
}

// Read reads a whole file of at most so many bytes.
func Read(path string, most int64) ([]byte, error) {
	f, _, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(b)) > most {
		err = &fs.PathError{Op: "read", Path: path, Err: fmt.Errorf("%w, %d MiB", ErrTooLong, most>>20)}
	}
	if err != nil {
		return nil, err
	}
	return b, nil
}
