package found

import (
	"time"

	"golang.org/x/sys/unix"
)

// bornAt is when a file was made; false where its file system does not say it.
func bornAt(path string) (time.Time, bool) {
	var st unix.Statx_t
	err := unix.Statx(unix.AT_FDCWD, path, unix.AT_SYMLINK_NOFOLLOW, unix.STATX_BTIME, &st)
	if err != nil || st.Mask&unix.STATX_BTIME == 0 || st.Btime.Sec == 0 {
		return time.Time{}, false
	}
	return time.Unix(st.Btime.Sec, int64(st.Btime.Nsec)), true
}
