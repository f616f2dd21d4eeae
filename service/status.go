package service

import (
	"context"
	"net"
	"os"
	"strconv"
	"strings"
	"time"

	"dimlantern/notify/via"
)

// beats posts the heartbeat as often as the settings say, as long as the service works: one
// that hangs sends none.
func (s *Service) beats(ctx context.Context) {
	was := false
	for t := time.NewTicker(time.Second); ; {
		select {
		case <-ctx.Done():
			t.Stop()
			return
		case <-t.C:
		}
		sn := s.window.Now()
		h := sn.Settings.Heartbeat
		if h == nil || s.hung() {
			continue
		}
		err := via.Beat(ctx, h.URL, sn.Host, h.Every, sn.Troubles(), s.o.Roots)
		if err != nil && ctx.Err() == nil {
			s.report(ctx, "heartbeat", "the heartbeat does not go out: "+err.Error())
		} else if was {
			s.report(ctx, "heartbeat", "")
		}
		was = err != nil
		t.Reset(h.Every)
	}
}

// hung tells whether no round has ended for too long.
func (s *Service) hung() bool { return time.Since(time.Unix(0, s.lastRound.Load())) > hangs }

// hangs is how long the service may take for a round before it counts as hanging.
const hangs = 30 * time.Second

// watchdog tells systemd that the service is there, and again and again that it works
// (sd_notify(3), WatchdogSec= in systemd.service(5)).
func (s *Service) watchdog(ctx context.Context) {
	address := os.Getenv("NOTIFY_SOCKET")
	if address == "" {
		return
	}
	if strings.HasPrefix(address, "@") { // a socket without a file
		address = "\x00" + address[1:]
	}
	c, err := net.DialUnix("unixgram", nil, &net.UnixAddr{Name: address, Net: "unixgram"})
	if err != nil {
		s.o.Log.Warn("systemd cannot be told that the service works", "reason", err)
		return
	}
	defer c.Close()
	c.Write([]byte("READY=1\nSTATUS=watching\n"))
	every := 10 * time.Second
	if us, err := strconv.Atoi(os.Getenv("WATCHDOG_USEC")); err == nil && us > 0 {
		every = time.Duration(us) * time.Microsecond / 3
	}
	for t := time.NewTicker(every); ; {
		select {
		case <-ctx.Done():
			t.Stop()
			c.Write([]byte("STOPPING=1\n"))
			return
		case <-t.C:
			if !s.hung() {
				c.Write([]byte("WATCHDOG=1\n"))
			}
		}
	}
}
