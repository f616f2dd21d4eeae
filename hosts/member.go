package hosts

import (
	"context"
	"crypto/ed25519"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"dimlantern/core/entry"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/nats-io/nkeys"
)

// Identity is what a host knows of the centre that it has joined, and proves itself by. Its file lies in the data
// folder, and only its owner can read it.
type Identity struct {
	Name    string            `json:"name"`
	First   string            `json:"first"` // the name under which it joined
	ID      string            `json:"id"`
	Seed    string            `json:"seed"` // the private key
	Address string            `json:"address"`
	CA      string            `json:"ca,omitempty"` // PEM
	Sign    ed25519.PublicKey `json:"sign"`
	Centre  string            `json:"centre"`
	Joined  entry.Instant     `json:"joined"`
	Made    entry.Instant     `json:"made"` // the key

	// Pass lets it in at the brokers of a cluster, whose certificates those of Roots sign, PEM; "" is whom the system
	// trusts. It is nil where the centre brings the broker.
	Pass  *Pass  `json:"pass,omitempty"`
	Roots string `json:"roots,omitempty"`
}

// identityFile holds the Identity, revisionFile the revision that the host runs, as it was signed.
// Files are those of a data folder that say which centre was joined, and what it sent.
var Files = [2]string{identityFile, revisionFile}

const (
	identityFile = "joined.json"
	revisionFile = "revision.json"
)

// renewKey is after which time a host makes a new key.
const renewKey = 365 * 24 * time.Hour

// Joined reads what a data folder knows of its centre; nil where it has joined none.
func Joined(data string) (*Identity, error) {
	path := filepath.Join(data, identityFile)
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var id Identity
	if err == nil {
		err = json.Unmarshal(b, &id)
	}
	if err != nil {
		return nil, fmt.Errorf("%s cannot be used (%w): dimlantern join --again joins anew", path, err)
	}
	return &id, nil
}

func (id *Identity) write(data string) error {
	b, err := json.MarshalIndent(id, "", "  ")
	if err != nil {
		return err
	}
	if err := writeSecret(filepath.Join(data, identityFile), b); err != nil {
		return fmt.Errorf("the data folder %s cannot be written: %w", data, err)
	}
	return nil
}

// Join joins the centre of a code under a name, and writes the identity into the data folder.
func Join(ctx context.Context, code Code, name, version, data string, again bool) (*Identity, error) {
	if err := CheckName(name); err != nil {
		return nil, err
	}
	before, err := Joined(data)
	if err != nil && !again {
		return nil, err
	}
	if before != nil && !again {
		return nil, fmt.Errorf("this machine has joined the centre on %s as %s already; join --again leaves that one",
			before.Centre, before.Name)
	}
	key, err := nkeys.CreateUser()
	if err != nil {
		return nil, err
	}
	pub, err := key.PublicKey()
	if err != nil {
		return nil, err
	}
	seed, err := key.Seed()
	if err != nil {
		return nil, err
	}
	var ca string
	t := pinning(code.Print, func(c *x509.Certificate) {
		ca = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw}))
	})
	who := nats.UserInfo(userJoin, code.Secret)
	if code.Token != "" {
		if t, err = rooted([]byte(code.Roots)); err != nil {
			return nil, err
		}
		who = nats.UserJWTAndSeed(code.Token, code.Seed)
	}
	nc, err := nats.Connect(urls(code.Address), nats.Secure(t), who, nats.CustomInboxPrefix(inboxOf(userJoin)),
		nats.Timeout(10*time.Second), nats.NoReconnect(), nats.Name(name))
	if err != nil {
		switch {
		case code.Token != "" && (errors.Is(err, nats.ErrAuthorization) || errors.Is(err, nats.ErrAuthExpired)):
			return nil, errors.New("the brokers of the centre do not know this code: it has ended, or is of another " +
				"cluster; ask for a new one: dimlantern invite")
		case errors.Is(err, ErrFingerprint) || strings.Contains(err.Error(), ErrFingerprint.Error()):
			return nil, ErrFingerprint
		case errors.Is(err, nats.ErrAuthorization):
			return nil,
				errors.New("the centre does not know this code: it was taken back, or is of another centre; " +
					"ask for a new one: dimlantern invite")
		}
		return nil, fmt.Errorf("the centre at %s cannot be reached: %w", code.Address, err)
	}
	defer nc.Close()
	q, _ := json.Marshal(joining{Secret: code.Secret, Name: name, Key: pub, OS: runtime.GOOS, Version: version})
	m, err := nc.RequestWithContext(ctx, subjectJoin, q)
	for n := 0; errors.Is(err, nats.ErrNoResponders) && n < 20; n++ { // the centre is just starting
		select {
		case <-ctx.Done():
		case <-time.After(250 * time.Millisecond):
		}
		m, err = nc.RequestWithContext(ctx, subjectJoin, q)
	}
	if err != nil {
		return nil, fmt.Errorf("the centre at %s does not answer: %w", code.Address, err)
	}
	var got joined
	if err := json.Unmarshal(m.Data, &got); err != nil {
		return nil, fmt.Errorf("the centre at %s answers what this version does not understand: %w", code.Address,
			err)
	}
	if got.Problem != "" {
		return nil, errors.New(got.Problem)
	}
	now := entry.Of(time.Now())
	id := &Identity{Name: got.Name, First: got.Name, ID: got.ID, Seed: string(seed), Address: code.Address,
		CA: ca, Sign: code.Sign, Centre: got.Centre, Joined: now, Made: now, Pass: got.Pass, Roots: code.Roots}
	if id.Pass != nil {
		id.Pass.Got = now
	}
	if before != nil {
		if err := before.write(filepath.Join(data, "left")); err != nil {
			return nil, err
		}
		os.Remove(filepath.Join(data, revisionFile))
	}
	return id, id.write(data)
}

// urls are addresses as the broker's client wants them.
func urls(list string) string {
	var out []string
	for _, a := range strings.Split(list, ",") {
		if a = strings.TrimSpace(a); !strings.Contains(a, "://") {
			a = "tls://" + a
		}
		out = append(out, a)
	}
	return strings.Join(out, ",")
}

// Kept is the revision that a data folder holds; nil where it holds none, or one that is not for the host.
func Kept(data string, id *Identity) (*Revision, error) {
	b, err := os.ReadFile(filepath.Join(data, revisionFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return ReadRevision(b, id)
}

// Keep makes a revision the one that a data folder holds.
func (r *Revision) Keep(data string) error {
	return writeSecret(filepath.Join(data, revisionFile), r.raw)
}

// Member is the host's side of a centre. Its Run is for one goroutine, everything else for any.
type Member struct {
	Data    string
	ID      *Identity
	Machine Machine
	Log     *slog.Logger
	// Dialer reaches the centre where that is not by the network of the machine; nil is the network.
	Dialer nats.CustomDialer

	mute   atomic.Bool
	mu     sync.Mutex
	seed   string // of the key, and the pass, under which it connects
	pass   *Pass
	refuse bool // the pass was refused: it may have ended while the machine slept, or its clock is wrong
	byDoor bool // it can only ask for a new pass
	nc     *nats.Conn
	js     jetstream.JetStream
	tried  int64 // the revision that was tried last, and its hash
	hash   string
	fresh  chan struct{}
	news   chan struct{}
	broken chan struct{} // the connection has gone
	sent   int64
	again  int64
	ready  bool
	// rekeyed says that the connection was made with a key that has been renewed since. It is Run's alone.
	rekeyed bool
	done    int64 // what the centre had committed, and how often that was the same though more was sent
	stuck   int
}

// NewMember is the host's side of the centre that it has joined.
func NewMember(data string, id *Identity, m Machine, log *slog.Logger) *Member {
	return &Member{Data: data, ID: id, Machine: m, Log: log, fresh: make(chan struct{}, 1),
		news: make(chan struct{}, 1), broken: make(chan struct{}, 1)}
}

// Mute lets the member end without a goodbye, as if the machine had lost its power.
func (m *Member) Mute() { m.mute.Store(true) }

// Fresh tells that there are new rows.
func (m *Member) Fresh() { nudge(m.fresh) }

// News has the member say now how the machine is.
func (m *Member) News() { nudge(m.news) }

func nudge(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// Run keeps to the centre until the context ends; then it says goodbye.
func (m *Member) Run(ctx context.Context) {
	for m.keepTo(ctx) {
		m.Log.Info("the host's key was renewed")
	}
}

// keepTo is Run by one connection. It is true where that has to be made anew, since the host has another key now.
func (m *Member) keepTo(ctx context.Context) (anew bool) {
	m.ready, m.stuck, m.rekeyed = false, 0, false
	for !m.connect(ctx) {
		select {
		case <-ctx.Done():
			return false
		case <-time.After(2 * time.Second):
		}
	}
	defer m.nc.Close()
	var sending sync.WaitGroup
	inner, stop := context.WithCancel(ctx)
	sending.Go(func() { m.sendAll(inner) })
	m.nc.Subscribe(subjectDown+m.ID.ID+".news", func(*nats.Msg) { m.News() })
	m.nc.Subscribe(subjectDown+m.ID.ID+".ask", func(q *nats.Msg) {
		go func() {
			b, err := m.Machine.Answer(inner, q.Data)
			if err != nil {
				reply(q, problem{err.Error()})
				return
			}
			q.Respond(b)
		}()
	})
	beat := time.NewTicker(Beat)
	defer beat.Stop()
	for pause := firstPause; ; pause = min(2*pause, Beat) {
		var again <-chan time.Time // a centre that has just begun may not listen yet though its broker does
		if m.say(ctx, false) {
			pause = firstPause
		} else {
			again = time.After(pause/2 + rand.N(pause))
		}
		if m.rekeyed {
			stop()
			sending.Wait()
			return true
		}
		select {
		case <-ctx.Done():
			stop()
			sending.Wait()
			if m.mute.Load() {
				return false
			}
			last, end := context.WithTimeout(context.Background(), 2*time.Second)
			m.say(last, true)
			end()
			return false
		case <-beat.C:
		case <-again:
		case <-m.news:
		}
	}
}

// connect reaches the centre for the first time; later the broker's client does it by itself.
func (m *Member) connect(ctx context.Context) bool {
	if _, err := nkeys.FromSeed([]byte(m.ID.Seed)); err != nil {
		m.Log.Error("the host's key is damaged: dimlantern join --again joins anew", "reason", err)
		return false
	}
	m.mu.Lock()
	m.seed, m.pass = m.ID.Seed, m.ID.Pass
	m.mu.Unlock()
	t, who, err := m.proof()
	if err != nil {
		m.Log.Error("the centre cannot be trusted", "reason", err)
		return false
	}
	link := func(up bool) func(*nats.Conn) {
		return func(*nats.Conn) {
			if !up {
				m.Machine.Link(false, 0)
				nudge(m.broken)
			}
			m.News()
		}
	}
	opts := []nats.Option{nats.Secure(t), who, nats.CustomInboxPrefix(inboxOf(m.ID.ID)),
		nats.Timeout(10 * time.Second), nats.MaxReconnects(-1), nats.ReconnectWait(500 * time.Millisecond),
		nats.ReconnectJitter(500*time.Millisecond, time.Second), nats.PingInterval(10 * time.Second),
		nats.MaxPingsOutstanding(2), nats.RetryOnFailedConnect(true), nats.ReconnectBufSize(-1),
		nats.IgnoreAuthErrorAbort(), nats.Name(m.ID.Name), nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription,
			err error) {
			m.Log.Debug("the broker says", "words", err.Error())
		}),
		nats.ConnectHandler(link(true)), nats.ReconnectHandler(link(true)),
		nats.DisconnectErrHandler(func(c *nats.Conn, _ error) { link(false)(c) }),
		nats.ReconnectErrHandler(func(_ *nats.Conn, err error) { m.refused(err) })}
	if m.Dialer != nil {
		opts = append(opts, nats.SetCustomDialer(m.Dialer))
	}
	nc, err := nats.Connect(urls(m.ID.Address), opts...)
	if err != nil {
		m.Log.Debug("the centre cannot be reached", "reason", err)
		return false
	}
	js, err := jetstream.New(nc, jetstream.WithPublishAsyncMaxPending(mostFlying))
	if err != nil {
		nc.Close()
		return false
	}
	m.mu.Lock()
	m.nc, m.js = nc, js
	m.mu.Unlock()
	return true
}

// say says how the machine is, and does what it hears. It returns whether the centre answered.
func (m *Member) say(ctx context.Context, bye bool) bool {
	if !bye && !m.passed(ctx) {
		return false
	}
	s, err := m.Machine.State(ctx)
	if err != nil {
		return false
	}
	s.Bye = bye
	s.At = entry.Of(time.Now())
	b, err := json.Marshal(s)
	if err != nil {
		return false
	}
	var heard struct {
		Heard
		problem
	}
	began := time.Now()
	if err := m.ask(ctx, "alive", b, &heard); err != nil || heard.Problem != "" {
		if heard.Problem != "" {
			m.Log.Warn("the centre says", "words", heard.Problem)
		}
		m.Machine.Link(false, 0)
		return false
	}
	if bye {
		return true
	}
	took := time.Since(began)
	m.Machine.Link(true, heard.At.Time().Sub(began.Add(took/2)))
	if heard.Name != m.ID.Name && heard.Name != "" {
		m.ID.Name = heard.Name
		if err := m.ID.write(m.Data); err != nil {
			m.Log.Warn(err.Error())
		}
	}
	m.mu.Lock()
	back := heard.Done < m.done // the centre was restored from a backup
	if m.stuck++; heard.Done > m.done || m.sent <= heard.Done {
		m.stuck = 0
	}
	m.done = heard.Done
	if !m.ready || heard.Again != m.again || m.sent < heard.Done || m.stuck > 3 || back {
		m.stuck = 0
		m.ready, m.again, m.sent = true, heard.Again, heard.Done
	}
	m.mu.Unlock()
	m.Fresh() // what could not be sent while the line was down
	if err := m.Machine.Done(ctx, heard.Done, heard.Sum); err != nil {
		m.Log.Warn("what the centre has committed cannot be noted", "reason", err)
	}
	if len(heard.Acts) > 0 {
		if err := m.Machine.Do(ctx, heard.Acts); err != nil {
			m.Log.Warn("what was done at the centre cannot be done here", "reason", err)
		}
	}
	if heard.Head != 0 && (heard.Head != m.tried || s.Runs.Number != heard.Head && s.Runs.Refuses == nil) {
		if m.fetch(ctx, heard.Head) {
			m.News()
		}
	}
	if entry.Of(time.Now()).Sub(m.ID.Made) > renewKey {
		m.renew(ctx)
	}
	return true
}

func (m *Member) ask(ctx context.Context, what string, q []byte, into any) error {
	b, err := m.raw(ctx, what, q)
	if err != nil {
		return err
	}
	return json.Unmarshal(b, into)
}

func (m *Member) raw(ctx context.Context, what string, q []byte) ([]byte, error) {
	ctx, end := context.WithTimeout(ctx, Beat)
	defer end()
	m.mu.Lock()
	nc := m.nc
	m.mu.Unlock()
	if nc == nil {
		return nil, errors.New("the centre cannot be reached")
	}
	r, err := nc.RequestWithContext(ctx, subjectAsk+m.ID.ID+"."+what, q)
	if err != nil {
		return nil, err
	}
	return r.Data, nil
}

// Keep hands entries over to the centre; without an error they are kept there.
func (m *Member) Keep(ctx context.Context, k *KeptEntries) error {
	b, err := json.Marshal(k)
	if err != nil {
		return err
	}
	var p problem
	if err := m.ask(ctx, "keep", b, &p); err != nil {
		return fmt.Errorf("the centre does not answer: %w", err)
	}
	if p.Problem != "" {
		return errors.New("the centre says: " + p.Problem)
	}
	return nil
}

// fetch gets the revision that is for this host, and tries it.
func (m *Member) fetch(ctx context.Context, number int64) bool {
	b, err := m.raw(ctx, "revision", nil)
	if err != nil {
		return false
	}
	var p problem
	if json.Unmarshal(b, &p) == nil && p.Problem != "" {
		m.Log.Warn("the centre says", "words", p.Problem)
		return false
	}
	r, err := ReadRevision(b, m.ID)
	if err != nil {
		m.Log.Warn("a revision is not obeyed", "reason", err)
		return false
	}
	if err := m.Machine.Try(ctx, r); err != nil {
		var refusal *Refusal
		if !errors.As(err, &refusal) {
			m.Log.Warn("a revision cannot be taken up now", "reason", err)
			return false
		}
	}
	m.tried, m.hash = r.Number, r.hash
	return true
}

// mostFlying is how many rows may be on their way to the broker at once; slowest is what a line carries at least, in
// bytes a second, before it is held for dead.
const (
	mostFlying = 512
	slowest    = 20_000
)

// sendAll sends rows as they come.
func (m *Member) sendAll(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-m.fresh:
		}
		for m.sendSome(ctx) {
		}
	}
}

// sendSome sends the next rows; it answers whether there may be more.
func (m *Member) sendSome(ctx context.Context) bool {
	m.mu.Lock()
	from, again, ready := m.sent, m.again, m.ready && !m.byDoor
	m.mu.Unlock()
	if !ready || !m.nc.IsConnected() || ctx.Err() != nil {
		return false
	}
	rows, err := m.Machine.Rows(ctx, from, mostFlying)
	if err != nil || len(rows) == 0 {
		return false
	}
	select {
	case <-m.broken: // before
	default:
	}
	var acks []jetstream.PubAckFuture
	var sizes []int
	for i := range rows {
		r := &rows[i]
		r.Again = again
		b, err := json.Marshal(r)
		if err != nil {
			return false
		}
		sizes = append(sizes, len(b))
		f, err := m.js.PublishMsgAsync(&nats.Msg{Subject: subjectUp + m.ID.ID, Data: b},
			jetstream.WithMsgID(fmt.Sprintf("%s/%s/%d/%d", m.ID.ID, r.Folder, r.Seq, again)),
			jetstream.WithStallWait(Beat))
		if err != nil {
			break
		}
		acks = append(acks, f)
	}
	arrived := from
	for i, f := range acks {
		select {
		case <-f.Ok():
			arrived = rows[i].Seq
			continue
		case err := <-f.Err():
			m.Log.Debug("rows wait", "reason", err)
		case <-m.broken: // what was on its way may be lost
		case <-time.After(2*time.Second + time.Duration(sizes[i])*time.Second/slowest): // a broker that died is silent
		case <-ctx.Done():
			return false
		}
		break
	}
	m.mu.Lock()
	if m.sent == from && m.again == again {
		m.sent = arrived
	}
	m.mu.Unlock()
	if arrived != rows[len(rows)-1].Seq { // the broker does not take more just now
		select {
		case <-ctx.Done():
		case <-time.After(200 * time.Millisecond):
		}
		m.Fresh()
		return false
	}
	return true
}
