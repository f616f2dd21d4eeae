//go:build !linux

package service

import "net"

// owners is a listener at a socket that its folder's rights protect.
type owners struct{ net.Listener }
