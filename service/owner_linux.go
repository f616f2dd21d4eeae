package service

import (
	"context"
	"net"
	"os"
	"os/user"
	"strconv"

	"dimlantern/api"

	"golang.org/x/sys/unix"
)

// owners lets the user in who runs the service, root, and those groups of the system that the settings name.
type owners struct {
	net.Listener
	s *Service
}

// Accept closes the connections of others.
func (l owners) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return c, err
		}
		cred := peer(c)
		if cred != nil && (isOwner(cred) || l.s.rightsOf(cred).Most() > api.NoRight) {
			return c, nil
		}
		c.Close()
	}
}

// who says what somebody may do.
func (l owners) who(ctx context.Context, c net.Conn) context.Context {
	cred := peer(c)
	if cred == nil {
		return api.WithRights(ctx, api.Rights{})
	}
	if isOwner(cred) {
		return ctx
	}
	return api.WithRights(ctx, l.s.rightsOf(cred))
}

// peer is who has connected; nil where the system does not say.
func peer(c net.Conn) (cred *unix.Ucred) {
	u, ok := c.(*net.UnixConn)
	if !ok {
		return nil
	}
	raw, err := u.SyscallConn()
	if err != nil {
		return nil
	}
	raw.Control(func(fd uintptr) {
		if x, err := unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED); err == nil {
			cred = x
		}
	})
	return cred
}

func isOwner(cred *unix.Ucred) bool { return cred.Uid == 0 || int(cred.Uid) == os.Geteuid() }

// rightsOf are the rights that the settings give somebody by the groups of the system.
func (s *Service) rightsOf(cred *unix.Ucred) api.Rights {
	r := api.Rights{Name: "user " + strconv.Itoa(int(cred.Uid))}
	in := map[string]bool{strconv.Itoa(int(cred.Gid)): true}
	if u, err := user.LookupId(strconv.Itoa(int(cred.Uid))); err == nil {
		r.Name = u.Username
		if list, err := u.GroupIds(); err == nil {
			for _, g := range list {
				in[g] = true
			}
		}
	}
	for _, p := range s.window.Now().Settings.Hosts.People {
		g, err := user.LookupGroup(p.Group)
		if err != nil || !in[g.Gid] {
			continue
		}
		right := api.RightOf(p.Right)
		if len(p.For) == 0 {
			r.All = max(r.All, right)
			continue
		}
		r.All = max(r.All, api.Look)
		if r.Group == nil {
			r.Group = map[string]api.Right{}
		}
		for _, of := range p.For {
			r.Group[of] = max(r.Group[of], right)
		}
	}
	return r
}
