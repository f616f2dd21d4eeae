//go:build !windows

package folder

import (
	"fmt"
	"os"
	"syscall"
)

// keepOwner gives a file the owner and the group of another one, in whose place it is put.
// It fails where that may not be done, since others could then no longer write it.
func keepOwner(f *os.File, name string) error {
	was, err := os.Stat(name)
	if err != nil {
		return nil // a new one
	}
	now, err := f.Stat()
	if err != nil {
		return err
	}
	a, okA := was.Sys().(*syscall.Stat_t)
	b, okB := now.Sys().(*syscall.Stat_t)
	if !okA || !okB || a.Uid == b.Uid && a.Gid == b.Gid {
		return nil
	}
	if err := f.Chown(int(a.Uid), int(a.Gid)); err != nil {
		return fmt.Errorf("it belongs to user %d and group %d, and would not any more: %w", a.Uid, a.Gid, err)
	}
	return nil
}
