package snapshot

import (
	"time"

	"dimlantern/core/entry"
	"dimlantern/hosts"
)

// Link is how a joined machine stands to its centre.
type Link struct {
	Name, Centre string
	Up           bool
	Since        time.Time     // since when it can be reached, or cannot
	Clock        time.Duration // how far the centre's clock is ahead
	Waits        int64         // rows that the centre has not committed
	Number       int64         // of the revision that runs; 0 is none
	NumberSince  entry.Instant
	Refuses      int64 // a revision that it refuses; 0 is none
	Why          string
}

// Hosts is what a centre knows of its hosts.
type Hosts struct {
	Address string // where they reach it
	List    []hosts.Status
	Newest  int64  // the newest revision; 0 is none
	Halted  string // how the last rollout halted; "" where it did not
	Pending string // what differs between the settings and the newest revision; "" is nothing
}

// Host is a host by its name; nil where there is none.
func (h *Hosts) Host(name string) *hosts.Status {
	if h == nil {
		return nil
	}
	for i := range h.List {
		if h.List[i].Name == name {
			return &h.List[i]
		}
	}
	return nil
}
