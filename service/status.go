package service

import (
	"context"
	"time"

	"dimlantern/notify/via"

	"github.com/coreos/go-systemd/v22/daemon"
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
// (sd_notify(3), WatchdogSec= in systemd.service(5)). Without systemd it does nothing.
func (s *Service) watchdog(ctx context.Context) {
	there, err := daemon.SdNotify(false, daemon.SdNotifyReady+"\nSTATUS=watching")
	if err != nil {
		s.o.Log.Warn("systemd cannot be told that the service works", "reason", err)
	}
	if !there {
		return
	}
	defer daemon.SdNotify(false, daemon.SdNotifyStopping)
	every, err := daemon.SdWatchdogEnabled(false)
	if err != nil || every == 0 {
		<-ctx.Done()
		return
	}
	for t := time.NewTicker(every / 3); ; {
		select {
		case <-ctx.Done():
			t.Stop()
			return
		case <-t.C:
			if !s.hung() {
				daemon.SdNotify(false, daemon.SdNotifyWatchdog)
			}
		}
	}
}
