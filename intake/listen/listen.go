// Package listen receives syslog messages at ports: over UDP (RFC 5426), TCP with
// both framings of RFC 6587 told apart by themselves, and TLS (RFC 5425). Messages
// come in; they go out as they came, in turn from each peer, so that one that floods
// does not keep others waiting. What had to be dropped is counted by peer.
//
// What a message means is never decided here.
package listen

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"slices"
	"sync"
	"syscall"
	"time"

	"dimlantern/core/origin"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/intake/feed"
	"dimlantern/intake/regular"
)

// MaxMessage is how long a message may be, in bytes; what is behind is cut off.
const MaxMessage = 1 << 20

// The bounds of what waits to be taken, of one peer.
const (
	maxWaiting      = 20_000
	maxWaitingBytes = 16 << 20
	maxAllWaiting   = 128 << 20 // bytes of all peers together: then who has more than a fair part waits
	maxPeers        = 4096
	maxStreams      = 1000 // TCP connections of one listener
	maxOfPeer       = 200  // and of one peer
)

// handshake is how long a peer may take to show its certificate.
const handshake = 10 * time.Second

// Listener receives at one port. Its methods may be called concurrently.
type Listener struct {
	spec  lang.Listen
	ready chan struct{}

	mu     sync.Mutex
	room   *sync.Cond
	peers  map[string]*peer
	turn   []*peer // those of whom something waits, in turn
	state  error   // why nothing is received; nil where it is
	mend   string
	since  time.Time
	all    int64 // bytes that wait
	lost   int64 // datagrams that the system dropped before they were read
	closed bool
	bound  net.Addr
}

type peer struct {
	origin.Sender
	queue []feed.Message
	bytes int
	inRow bool
}

// New returns a listener; Run lets it receive.
func New(spec lang.Listen) *Listener {
	l := &Listener{spec: spec, ready: make(chan struct{}, 1), peers: map[string]*peer{}, since: time.Now()}
	l.room = sync.NewCond(&l.mu)
	return l
}

// Ready is part of feed.Feed.
func (l *Listener) Ready() <-chan struct{} { return l.ready }

// State is part of feed.Feed.
func (l *Listener) State() origin.Way {
	l.mu.Lock()
	defer l.mu.Unlock()
	s := origin.Way{Since: l.since, Mend: l.mend, Lost: l.lost, Behind: len(l.turn) > 0}
	if l.state != nil {
		s.Words = l.state.Error()
	}
	for _, p := range l.peers {
		s.Senders = append(s.Senders, p.Sender)
	}
	slices.SortFunc(s.Senders, func(a, b origin.Sender) int { return b.Last.Compare(a.Last) })
	return s
}

// Addr is where it listens; nil where it does not.
func (l *Listener) Addr() net.Addr {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.bound
}

// Run receives until the context ends. Where the port cannot be opened it says so in
// State, and tries again.
func (l *Listener) Run(ctx context.Context) {
	stop := context.AfterFunc(ctx, func() {
		l.mu.Lock()
		l.closed = true
		l.room.Broadcast()
		l.mu.Unlock()
	})
	defer stop()
	for {
		err := l.serve(ctx)
		if ctx.Err() != nil {
			return
		}
		l.fail(err)
		select {
		case <-ctx.Done():
			return
		case <-time.After(3 * time.Second):
		}
	}
}

// Try opens a port and closes it again, and says why it cannot be opened, and what
// mends that.
func Try(spec lang.Listen) (words, mend string) {
	l := New(spec)
	var err error
	if spec.Proto == "udp" {
		var c net.PacketConn
		if c, err = net.ListenPacket("udp", spec.Address); err == nil {
			c.Close()
		}
	} else {
		if spec.Proto == "tls" {
			_, err = l.config()
		}
		if err == nil {
			var in net.Listener
			if in, err = net.Listen("tcp", spec.Address); err == nil {
				in.Close()
			}
		}
	}
	if err == nil {
		return "", ""
	}
	l.fail(err)
	st := l.State()
	return st.Words, st.Mend
}

func (l *Listener) fail(err error) {
	mend := ""
	switch {
	case errors.Is(err, syscall.EACCES):
		self, _ := os.Executable()
		err = fmt.Errorf("this user may not open %s %s: ports below 1024 are for root", l.spec.Proto, l.spec.Address)
		mend = "setcap cap_net_bind_service=+ep " + self
	case errors.Is(err, syscall.EADDRINUSE):
		err = fmt.Errorf("%s %s is in use by another program", l.spec.Proto, l.spec.Address)
		mend = "stop that program, or listen at another port; ss -lnp shows which it is"
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, fs.ErrPermission):
		mend = "look at cert, key and clients of the source"
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.state == nil {
		l.since = time.Now()
	}
	l.state, l.mend, l.bound = err, mend, nil
}

func (l *Listener) listening(at net.Addr) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.state != nil {
		l.since = time.Now()
	}
	l.state, l.mend, l.bound = nil, "", at
}

func (l *Listener) serve(ctx context.Context) error {
	if l.spec.Proto == "udp" {
		return l.udp(ctx)
	}
	return l.streams(ctx)
}

// find is the peer of an address. Beyond what is remembered the longest silent one
// of whom nothing waits goes.
func (l *Listener) find(address string) *peer {
	p := l.peers[address]
	if p != nil {
		return p
	}
	if len(l.peers) >= maxPeers {
		var oldest *peer
		for _, x := range l.peers {
			if len(x.queue) == 0 && x.Streams == 0 && (oldest == nil || x.Last.Before(oldest.Last)) {
				oldest = x
			}
		}
		if oldest == nil {
			return nil
		}
		delete(l.peers, oldest.Name)
	}
	p = &peer{Sender: origin.Sender{Name: address}}
	l.peers[address] = p
	return p
}

// put queues a message. A stream waits for room; a datagram is dropped without it.
// It answers false where the listener is closed.
func (l *Listener) put(m feed.Message, wait bool) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	p := l.find(m.Way)
	if p == nil {
		l.lost++
		return !l.closed
	}
	for l.full(p, len(m.Text)) {
		if !wait {
			p.Received++
			p.Dropped++
			return true
		}
		if l.closed {
			return false
		}
		l.room.Wait()
	}
	p.Received++
	p.Last = m.Arrived.Time()
	p.queue = append(p.queue, m)
	p.bytes += len(m.Text)
	l.all += int64(len(m.Text))
	if !p.inRow {
		p.inRow = true
		l.turn = append(l.turn, p)
	}
	select {
	case l.ready <- struct{}{}:
	default:
	}
	return !l.closed
}

// full tells whether a peer has no room for so many bytes.
func (l *Listener) full(p *peer, n int) bool {
	return len(p.queue) >= maxWaiting || p.bytes > 0 && (p.bytes+n > maxWaitingBytes ||
		l.all > maxAllWaiting && p.bytes > maxAllWaiting/max(len(l.turn), 1))
}

// atOnce is how many messages of one peer are taken before it is another's turn.
const atOnce = 64

// Take is part of feed.Feed. The messages of one peer keep their order.
func (l *Listener) Take(most int) []feed.Message {
	l.mu.Lock()
	defer l.mu.Unlock()
	var out []feed.Message
	for len(out) < most && len(l.turn) > 0 {
		p := l.turn[0]
		l.turn = l.turn[1:]
		n := min(atOnce, len(p.queue), most-len(out))
		for _, m := range p.queue[:n] {
			p.bytes -= len(m.Text)
			l.all -= int64(len(m.Text))
		}
		out = append(out, p.queue[:n]...)
		if p.queue = p.queue[n:]; len(p.queue) > 0 {
			l.turn = append(l.turn, p)
		} else {
			p.queue, p.inRow = nil, false
		}
	}
	if len(l.turn) > 0 {
		select {
		case l.ready <- struct{}{}:
		default:
		}
	}
	l.room.Broadcast()
	return out
}

func plainAddr(a net.Addr) (peer, address string) {
	ap, err := netip.ParseAddrPort(a.String())
	if err != nil {
		return a.String(), a.String()
	}
	return netip.AddrPortFrom(ap.Addr().Unmap(), ap.Port()).String(), ap.Addr().Unmap().String()
}

// udp receives datagrams: one is one message.
func (l *Listener) udp(ctx context.Context) error {
	pc, err := (&net.ListenConfig{Control: countDrops}).ListenPacket(ctx, "udp", l.spec.Address)
	if err != nil {
		return err
	}
	conn := pc.(*net.UDPConn)
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	defer conn.Close()
	conn.SetReadBuffer(32 << 20)
	l.listening(conn.LocalAddr())
	buf, oob := make([]byte, 64<<10), make([]byte, 128)
	before := uint32(0)
	for {
		n, k, _, from, err := conn.ReadMsgUDPAddrPort(buf, oob)
		if err != nil {
			return err
		}
		if d, ok := dropsIn(oob[:k]); ok && d != before {
			l.mu.Lock()
			l.lost += int64(d - before)
			l.mu.Unlock()
			before = d
		}
		addr := from.Addr().Unmap()
		text := trimEnd(buf[:n])
		if len(text) == 0 {
			continue
		}
		m := feed.Message{Peer: netip.AddrPortFrom(addr, from.Port()).String(), Way: addr.String(),
			Arrived: entry.Of(time.Now()), Text: append([]byte(nil), text...)}
		if !l.put(m, false) {
			return nil
		}
	}
}

// trimEnd takes line ends and NULs from a message's end, which some senders put
// there.
func trimEnd(b []byte) []byte {
	for len(b) > 0 && (b[len(b)-1] == '\n' || b[len(b)-1] == 0 || b[len(b)-1] == '\r') {
		b = b[:len(b)-1]
	}
	return b
}

// streams receives over TCP or TLS.
func (l *Listener) streams(ctx context.Context) error {
	in, err := (&net.ListenConfig{KeepAlive: time.Minute}).Listen(ctx, "tcp", l.spec.Address)
	if err != nil {
		return err
	}
	if l.spec.Proto == "tls" {
		config, err := l.config()
		if err != nil {
			in.Close()
			return err
		}
		in = tls.NewListener(in, config)
	}
	stop := context.AfterFunc(ctx, func() { in.Close() })
	defer stop()
	defer in.Close()
	l.listening(in.Addr())
	places := make(chan struct{}, maxStreams)
	var all sync.WaitGroup
	defer all.Wait()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	for {
		conn, err := in.Accept()
		if err != nil {
			var ne net.Error
			if errors.As(err, &ne) && ne.Timeout() || errors.Is(err, syscall.EMFILE) ||
				errors.Is(err, syscall.ECONNABORTED) {
				time.Sleep(50 * time.Millisecond)
				continue
			}
			return err
		}
		select {
		case places <- struct{}{}:
		default:
			conn.Close()
			continue
		}
		all.Go(func() {
			defer func() { <-places }()
			l.stream(ctx, conn)
		})
	}
}

func (l *Listener) stream(ctx context.Context, conn net.Conn) {
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	from, address := plainAddr(conn.RemoteAddr())
	if !l.count(address, 1) {
		l.note(address, fmt.Sprintf("it has %d connections open, and may have no more", maxOfPeer))
		return
	}
	defer l.count(address, -1)
	if c, ok := conn.(*tls.Conn); ok {
		ctx, cancel := context.WithTimeout(ctx, handshake)
		err := c.HandshakeContext(ctx)
		cancel()
		if err != nil {
			l.note(address, "it was not let in: "+err.Error())
			return
		}
		l.note(address, "")
	}
	r := NewFrames(conn)
	for {
		text, err := r.Next()
		if len(text) > 0 {
			if !l.put(feed.Message{Peer: from, Way: address, Arrived: entry.Of(time.Now()),
				Text: append([]byte(nil), text...)}, true) {
				return
			}
		}
		if err != nil {
			return
		}
	}
}

// count counts the connections of a peer; it answers false where it has too many.
func (l *Listener) count(address string, by int) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	p := l.find(address)
	if p == nil || by > 0 && p.Streams >= maxOfPeer {
		return false
	}
	p.Streams += by
	return true
}

// note says what is the matter with a peer.
func (l *Listener) note(address, words string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if p := l.find(address); p != nil {
		p.Note = words
	}
}

// config reads the certificates, RFC 5425, sections 4.2 and 5.
func (l *Listener) config() (*tls.Config, error) {
	pair, err := tls.LoadX509KeyPair(l.spec.Cert, l.spec.Key)
	if err != nil {
		return nil, fmt.Errorf("the certificate %s with its key %s cannot be used: %w", l.spec.Cert, l.spec.Key, err)
	}
	c := &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}
	if l.spec.Clients != "" {
		pem, err := regular.Read(l.spec.Clients, 16<<20)
		if err != nil {
			return nil, fmt.Errorf("the clients' authorities cannot be read: %w", err)
		}
		c.ClientCAs = x509.NewCertPool()
		if !c.ClientCAs.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no certificate", l.spec.Clients)
		}
		c.ClientAuth = tls.RequireAndVerifyClientCert
	}
	return c, nil
}
