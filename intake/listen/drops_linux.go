package listen

import (
	"encoding/binary"
	"syscall"

	"golang.org/x/sys/unix"
)

// countDrops asks the system to say with each datagram how many it has dropped.
func countDrops(_, _ string, c syscall.RawConn) error {
	return c.Control(func(fd uintptr) { unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RXQ_OVFL, 1) })
}

// dropsIn reads that number.
func dropsIn(oob []byte) (uint32, bool) {
	list, err := unix.ParseSocketControlMessage(oob)
	if err != nil {
		return 0, false
	}
	for _, m := range list {
		if m.Header.Level == unix.SOL_SOCKET && m.Header.Type == unix.SO_RXQ_OVFL && len(m.Data) >= 4 {
			return binary.NativeEndian.Uint32(m.Data), true
		}
	}
	return 0, false
}
