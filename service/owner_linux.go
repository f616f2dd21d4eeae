package service

import (
	"net"
	"os"

	"golang.org/x/sys/unix"
)

// owners lets only the user in who runs the service, and root.
type owners struct{ net.Listener }

// Accept closes the connections of others.
func (l owners) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil || isOwner(c) {
			return c, err
		}
		c.Close()
	}
}

func isOwner(c net.Conn) bool {
	u, ok := c.(*net.UnixConn)
	if !ok {
		return false
	}
	raw, err := u.SyscallConn()
	if err != nil {
		return false
	}
	may := false
	err = raw.Control(func(fd uintptr) {
		cred, err := unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED)
		may = err == nil && (cred.Uid == 0 || int(cred.Uid) == os.Geteuid())
	})
	return err == nil && may
}
