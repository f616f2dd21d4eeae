package intake

import (
	"os"

	"golang.org/x/sys/unix"
)

// behindHole is where a file has data again, at or behind a place, as its file system knows
// without reading it; the place itself where that says nothing.
func behindHole(f *os.File, place int64) int64 {
	at, err := unix.Seek(int(f.Fd()), place, unix.SEEK_DATA)
	if err != nil || at < place {
		return place
	}
	return at
}
