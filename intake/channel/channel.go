// Package channel reads event channels: of a channel host over its protocol, of a
// folder with files of event XML, or, under Windows, of the operating system. Events
// come out in the published event XML, each with its place in its channel.
//
// The protocol is described in docs/channels.md.
package channel

import (
	"context"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"time"

	"dimlantern/core/lang"
	"dimlantern/intake/feed"
)

// Info is what is known of a channel.
type Info struct {
	Name    string    `json:"name"`
	Records int64     `json:"records"`
	Newest  time.Time `json:"newest"`        // the time of its newest event; zero where it has none
	Off     bool      `json:"off,omitempty"` // it is switched off at its host
	// Words say why it may not be read; "" where it may.
	Words string  `json:"words,omitempty"`
	Mend  string  `json:"mend,omitempty"`
	Kinds []Count `json:"kinds,omitempty"` // the most frequent kinds of its newest events
}

// Say says in words how the channel is: whether it may be read, and whether there is
// anything in it.
func (i Info) Say() string {
	switch {
	case i.Words != "":
		return i.Words
	case i.Records == 0 && i.Newest.IsZero() && i.Off:
		return "it may be read, and has no event: it is switched off at its host"
	case i.Records == 0 && i.Newest.IsZero():
		return "it may be read, and never had an event: is it switched on at the host?"
	case i.Off:
		return "it may be read; nothing new comes, since it is switched off at its host"
	}
	return "it may be read"
}

// Count is how often events of a kind occur.
type Count struct {
	Event string `json:"event"` // the identifier
	Level string `json:"level"`
	N     int64  `json:"n"`
	Text  string `json:"text,omitempty"` // an example
}

// Place is a place in a channel: records are counted from 1, and a channel that was
// cleared is another log.
type Place struct {
	Log    string
	Record int64
}

// String writes a place for ParsePlace.
func (p Place) String() string { return p.Log + ":" + strconv.FormatInt(p.Record, 10) }

// ParsePlace reads a place; false where there is none.
func ParsePlace(s string) (Place, bool) {
	i := strings.LastIndexByte(s, ':')
	if i < 0 {
		return Place{}, false
	}
	n, err := strconv.ParseInt(s[i+1:], 10, 64)
	return Place{s[:i], n}, err == nil && n >= 0
}

// Local is where the channels of this machine are, where the operating system has
// none of its own: the socket of a channel host.
func Local() string {
	if at := os.Getenv("DIMLANTERN_CHANNELS"); at != "" {
		return at
	}
	return "/run/dimlantern/channels.sock"
}

// New returns a feed of channels of a place: a channel host's address or socket, or a folder; "" is
// this machine. Positions say, by channel, where it goes on; without them it begins as is said.
func New(at string, channels []string, begin lang.Begin, positions map[string]string) feed.Feed {
	switch {
	case at == "" && hasOwn:
		return newOwn(channels, begin, positions)
	case at == "":
		return newClient(Local(), channels, begin, positions)
	case isFolder(at):
		return newFolder(at, channels, begin, positions)
	}
	return newClient(at, channels, begin, positions)
}

// isFolder tells a folder from a socket or an address.
func isFolder(at string) bool {
	info, err := os.Stat(at)
	if err == nil {
		return info.IsDir()
	}
	return strings.HasPrefix(at, "/") && !strings.HasSuffix(at, ".sock")
}

// List lists the channels that there are, where a source says.
func List(ctx context.Context, at string) ([]Info, error) {
	switch {
	case at == "" && hasOwn:
		return listOwn()
	case at == "":
		return listAt(ctx, Local())
	case isFolder(at):
		return listFolder(at)
	}
	return listAt(ctx, at)
}

func dial(ctx context.Context, at string) (net.Conn, error) {
	d := net.Dialer{Timeout: 5 * time.Second, KeepAlive: 30 * time.Second}
	if strings.HasPrefix(at, "/") {
		return d.DialContext(ctx, "unix", at)
	}
	return d.DialContext(ctx, "tcp", at)
}

// Find is the channel of that name, of those that there are; false, with words, where
// there is none.
func Find(all []Info, name string) (Info, string, bool) {
	for _, x := range all {
		if x.Name == name {
			return x, "", true
		}
	}
	return Info{}, noSuch(name, all), false
}

// noSuch says that a channel is not there, and what is.
func noSuch(name string, all []Info) string {
	if len(all) == 0 {
		return fmt.Sprintf("there is no channel %s, nor any other", name)
	}
	var names []string
	for _, x := range all {
		if strings.EqualFold(x.Name, name) {
			return fmt.Sprintf("there is no channel %s; it is written %s", name, x.Name)
		}
		names = append(names, x.Name)
	}
	if len(names) > 8 {
		names = append(names[:8], "…")
	}
	return fmt.Sprintf("there is no channel %s; there are: %s", name, strings.Join(names, ", "))
}
