//go:build !linux

package service

import (
	"context"
	"net"
)

// owners is a listener at a socket that its folder's rights protect.
type owners struct {
	net.Listener
	s *Service
}

// who says what somebody may do: everything, since nobody else reaches the socket.
func (l owners) who(ctx context.Context, _ net.Conn) context.Context { return ctx }
