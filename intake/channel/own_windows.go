package channel

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"sync"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"

	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/intake/feed"
)

// hasOwn tells whether the operating system has channels of its own.
const hasOwn = true

// The functions of the system's event log, by their documented names.
var (
	wevtapi                  = windows.NewLazySystemDLL("wevtapi.dll")
	evtOpenChannelEnum       = wevtapi.NewProc("EvtOpenChannelEnum")
	evtNextChannelPath       = wevtapi.NewProc("EvtNextChannelPath")
	evtQuery                 = wevtapi.NewProc("EvtQuery")
	evtSubscribe             = wevtapi.NewProc("EvtSubscribe")
	evtNext                  = wevtapi.NewProc("EvtNext")
	evtRender                = wevtapi.NewProc("EvtRender")
	evtOpenPublisher         = wevtapi.NewProc("EvtOpenPublisherMetadata")
	evtFormatMessage         = wevtapi.NewProc("EvtFormatMessage")
	evtClose                 = wevtapi.NewProc("EvtClose")
	errNoMore          error = windows.ERROR_NO_MORE_ITEMS
)

const (
	queryChannel      = 0x1
	queryReverse      = 0x200
	subscribeToFuture = 1
	subscribeAtOldest = 2
	renderXML         = 1
	formatXML         = 9
	largestEvent      = 4 << 20
	eventsAtOnce      = 64
	waitForEvents     = 500 // ms
	errorAccess       = windows.ERROR_ACCESS_DENIED
	errorNoChannel    = syscall.Errno(15007) // ERROR_EVT_CHANNEL_NOT_FOUND
	errorInsufficient = windows.ERROR_INSUFFICIENT_BUFFER
)

// own follows channels of the operating system.
type own struct {
	*follower
	publishers map[string]uintptr
	mu2        sync.Mutex
}

func newOwn(channels []string, begin lang.Begin, positions map[string]string) feed.Feed {
	return &own{follower: newFollower(channels, begin, positions), publishers: map[string]uintptr{}}
}

// Run is part of feed.Feed.
func (o *own) Run(ctx context.Context) {
	var all sync.WaitGroup
	for _, name := range o.channels {
		all.Go(func() {
			for ctx.Err() == nil {
				words, mend := o.follow(ctx, name)
				if ctx.Err() != nil {
					return
				}
				o.fail(name, words, mend)
				select {
				case <-ctx.Done():
				case <-time.After(3 * time.Second):
				}
			}
		})
	}
	all.Wait()
}

// follow reads a channel until that fails, and says why it did.
func (o *own) follow(ctx context.Context, name string) (words, mend string) {
	query, flags := "*", uintptr(subscribeToFuture)
	at, known := ParsePlace(o.position(name))
	newest, err := newestRecord(name)
	switch {
	case err != nil:
		return ownTrouble(name, err)
	case known && newest < at.Record:
		o.Tell(fmt.Sprintf("channel %s was cleared: its records begin anew", name))
		at.Record = 0
		query, flags = "*", subscribeAtOldest
	case known:
		query, flags = fmt.Sprintf("*[System[(EventRecordID>%d)]]", at.Record), subscribeAtOldest
	case o.begin.How == lang.BeginOldest:
		flags = subscribeAtOldest
	case o.begin.How == lang.BeginAgo:
		query, flags = fmt.Sprintf("*[System[TimeCreated[timediff(@SystemTime) <= %d]]]", o.begin.Ago.Milliseconds()),
			subscribeAtOldest
	case o.begin.How == lang.BeginAt:
		query, flags = fmt.Sprintf("*[System[TimeCreated[@SystemTime>='%s']]]", o.begin.At), subscribeAtOldest
	default: // a place that is known, so that what comes before the next start is not lost
		place := Place{"own", newest}.String()
		o.note(name, place)
		if !o.Put(ctx, feed.Message{Way: name, Stream: name, Position: place}) {
			return "", ""
		}
	}
	signal, err := windows.CreateEvent(nil, 1, 1, nil)
	if err != nil {
		return ownTrouble(name, err)
	}
	defer windows.CloseHandle(signal)
	path, _ := windows.UTF16PtrFromString(name)
	filter, _ := windows.UTF16PtrFromString(query)
	sub, _, err := evtSubscribe.Call(0, uintptr(signal), uintptr(unsafe.Pointer(path)),
		uintptr(unsafe.Pointer(filter)), 0, 0, 0, flags)
	if sub == 0 {
		return ownTrouble(name, err)
	}
	defer evtClose.Call(sub)
	o.fail(name, "", "")
	expected := at.Record + 1
	for ctx.Err() == nil {
		var events [eventsAtOnce]uintptr
		var n uint32
		ok, _, err := evtNext.Call(sub, eventsAtOnce, uintptr(unsafe.Pointer(&events[0])), 0, 0,
			uintptr(unsafe.Pointer(&n)))
		if ok == 0 {
			if !errors.Is(err, errNoMore) && !errors.Is(err, windows.ERROR_TIMEOUT) &&
				!errors.Is(err, windows.ERROR_INVALID_OPERATION) {
				return ownTrouble(name, err)
			}
			o.sent(name)
			windows.ResetEvent(signal)
			windows.WaitForSingleObject(signal, waitForEvents)
			continue
		}
		for _, e := range events[:n] {
			xml := o.whole(e)
			evtClose.Call(e)
			record, _ := strconv.ParseInt(element([]byte(xml), "EventRecordID"), 10, 64)
			if known && record > expected && expected > 1 {
				o.Tell(fmt.Sprintf("channel %s has wrapped: %d events went before they could be read", name,
					record-expected))
			}
			known, expected = true, record+1
			if !o.put(ctx, name, []byte(xml), Place{"own", record}.String()) {
				return "", ""
			}
		}
	}
	return "", ""
}

// whole is the XML of an event, with its message where its publisher is known.
func (o *own) whole(event uintptr) string {
	plain := render(event)
	_, provider, _ := cutBetween(plain, "Provider Name='", "'")
	if provider == "" {
		return plain
	}
	o.mu2.Lock()
	defer o.mu2.Unlock()
	p, known := o.publishers[provider]
	if !known {
		name, err := windows.UTF16PtrFromString(provider)
		if err == nil {
			p, _, _ = evtOpenPublisher.Call(0, uintptr(unsafe.Pointer(name)), 0, 0, 0)
		}
		o.publishers[provider] = p
	}
	if p == 0 {
		return plain
	}
	full := filled(func(size uint32, buf *uint16, used *uint32) error {
		ok, _, err := evtFormatMessage.Call(p, event, 0, 0, 0, formatXML, uintptr(size), uintptr(unsafe.Pointer(buf)),
			uintptr(unsafe.Pointer(used)))
		if ok == 0 {
			return err
		}
		return nil
	})
	if full == "" {
		return plain
	}
	return full
}

func cutBetween(s, from, to string) (before, between string, ok bool) {
	for i := 0; i+len(from) <= len(s); i++ {
		if s[i:i+len(from)] == from {
			rest := s[i+len(from):]
			for k := 0; k+len(to) <= len(rest); k++ {
				if rest[k:k+len(to)] == to {
					return s[:i], rest[:k], true
				}
			}
		}
	}
	return s, "", false
}

func render(event uintptr) string {
	return filled(func(size uint32, buf *uint16, used *uint32) error {
		var count, bytes uint32
		ok, _, err := evtRender.Call(0, event, renderXML, uintptr(size)*2, uintptr(unsafe.Pointer(buf)),
			uintptr(unsafe.Pointer(&bytes)), uintptr(unsafe.Pointer(&count)))
		*used = (bytes + 1) / 2
		if ok == 0 {
			return err
		}
		return nil
	})
}

// filled calls a function that fills a buffer with UTF-16, with one that is large
// enough.
func filled(fill func(size uint32, buf *uint16, used *uint32) error) string {
	buf := make([]uint16, 4096)
	for {
		var used uint32
		err := fill(uint32(len(buf)), &buf[0], &used)
		if err == nil {
			return windows.UTF16ToString(buf)
		}
		if !errors.Is(err, errorInsufficient) || used <= uint32(len(buf)) || used > largestEvent {
			return ""
		}
		buf = make([]uint16, used)
	}
}

// newestRecord is the number of a channel's newest record; 0 where it has none.
func newestRecord(name string) (int64, error) {
	path, err := windows.UTF16PtrFromString(name)
	if err != nil {
		return 0, err
	}
	q, _, err := evtQuery.Call(0, uintptr(unsafe.Pointer(path)), 0, queryChannel|queryReverse)
	if q == 0 {
		return 0, err
	}
	defer evtClose.Call(q)
	var event uintptr
	var n uint32
	if ok, _, _ := evtNext.Call(q, 1, uintptr(unsafe.Pointer(&event)), 0, 0, uintptr(unsafe.Pointer(&n))); ok == 0 ||
		n == 0 {
		return 0, nil
	}
	defer evtClose.Call(event)
	record, _ := strconv.ParseInt(element([]byte(render(event)), "EventRecordID"), 10, 64)
	return record, nil
}

func ownTrouble(name string, err error) (words, mend string) {
	switch {
	case errors.Is(err, errorAccess):
		return fmt.Sprintf("this user may not read the channel %s", name),
			"add the user to the group Event Log Readers, and start anew"
	case errors.Is(err, errorNoChannel):
		all, _ := listOwn()
		return noSuch(name, all), ""
	}
	return fmt.Sprintf("the channel %s cannot be read: %v", name, err), ""
}

// lookedAt is how many of the newest events of a channel are looked at to list it.
const lookedAt = 200

// infoOf looks at the newest events of a channel.
func infoOf(d *layout.Divider, name string) Info {
	t := tally{info: Info{Name: name}}
	path, err := windows.UTF16PtrFromString(name)
	if err != nil {
		return t.info
	}
	q, _, err := evtQuery.Call(0, uintptr(unsafe.Pointer(path)), 0, queryChannel|queryReverse)
	if q == 0 {
		t.info.Words = fmt.Sprintf("it cannot be read: %v", err)
		if errors.Is(err, errorAccess) {
			t.info.Words, t.info.Mend = ownTrouble(name, err)
		}
		return t.info
	}
	defer evtClose.Call(q)
	for range lookedAt {
		var event uintptr
		var n uint32
		if ok, _, _ := evtNext.Call(q, 1, uintptr(unsafe.Pointer(&event)), 0, 0,
			uintptr(unsafe.Pointer(&n))); ok == 0 || n == 0 {
			break
		}
		t.add(d, []byte(render(event)))
		evtClose.Call(event)
	}
	return t.done()
}

func listOwn() ([]Info, error) {
	e, _, err := evtOpenChannelEnum.Call(0, 0)
	if e == 0 {
		return nil, err
	}
	defer evtClose.Call(e)
	var out []Info
	d := reader()
	for {
		buf := make([]uint16, 512)
		var used uint32
		ok, _, err := evtNextChannelPath.Call(e, uintptr(len(buf)), uintptr(unsafe.Pointer(&buf[0])),
			uintptr(unsafe.Pointer(&used)))
		if ok == 0 {
			if errors.Is(err, errNoMore) {
				return out, nil
			}
			return out, err
		}
		out = append(out, infoOf(d, windows.UTF16ToString(buf)))
	}
}
