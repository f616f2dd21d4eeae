//go:build !windows

package intake

import (
	"io/fs"
	"strconv"
	"syscall"
)

// identity is what a file is on this machine, whatever it is called.
func identity(_ string, info fs.FileInfo) Identity {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return Identity{uint64(st.Dev), uint64(st.Ino)}
	}
	return Identity{}
}

// ownersOf are the user and the group that a file belongs to, by their numbers.
func ownersOf(info fs.FileInfo) (uid, gid string, ok bool) {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return "", "", false
	}
	return strconv.Itoa(int(st.Uid)), strconv.Itoa(int(st.Gid)), true
}
