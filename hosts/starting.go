package hosts

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// start connects, sees that what hosts report is kept, and begins to answer them.
func (c *Centre) start() error {
	nc, err := c.b.connect(func(err error) {
		if c.nc.Load() != nil { // before, startLater says it
			c.linked(err)
		}
	})
	if err != nil {
		return err
	}
	js, err := jetstream.New(nc)
	if err == nil {
		err = c.begin(nc, js)
	}
	if err != nil {
		nc.Close()
	}
	return err
}

func (c *Centre) begin(nc *nats.Conn, js jetstream.JetStream) error {
	up, err := c.reports(js)
	if err != nil {
		return err
	}
	c.mu.Lock()
	c.js = js
	c.mu.Unlock()
	c.nc.Store(nc)
	if _, err := nc.Subscribe(subjectAsk+"*.*", func(m *nats.Msg) { c.answer(m) }); err != nil {
		return err
	}
	if _, err := nc.Subscribe(subjectJoin, func(m *nats.Msg) { c.join(m) }); err != nil {
		return err
	}
	if err := nc.Flush(); err != nil {
		return err
	}
	c.all.Go(func() { c.takeAll(js, up) })
	return nil
}

// tryAgain is after which time at most a centre tries to reach its brokers again.
var tryAgain = 10 * time.Second

// startLater is start for a cluster: again and again until it succeeds, and meanwhile Reached says why not.
func (c *Centre) startLater() {
	for pause := tryAgain / 8; ; pause = min(2*pause, tryAgain) {
		err := c.b.load()
		if err == nil {
			err = c.start()
		}
		c.linked(err)
		if err == nil {
			return
		}
		select {
		case <-c.ctx.Done():
			return
		case <-time.After(pause):
		}
	}
}

// linked notes whether the brokers of a cluster can be reached.
func (c *Centre) linked(err error) {
	c.mu.Lock()
	if c.wrong == nil || err == nil {
		c.wrongAt = c.o.Now()
	}
	news := fmt.Sprint(c.wrong) != fmt.Sprint(err)
	c.wrong = err
	c.mu.Unlock()
	if news && c.ctx.Err() == nil {
		c.o.Log.Debug("the brokers", "reached", err == nil, "reason", err)
		c.o.Changed()
	}
}

// Reached says since when the brokers of a cluster can be used, or with an error why not, and since when they cannot.
// A broker of the centre's own can always be: the time is zero.
func (c *Centre) Reached() (since time.Time, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.wrongAt, c.wrong
}

// copies is by how many brokers of a cluster each report is kept.
const copies = 3

// reports has the brokers keep what hosts report, and is where it is read.
func (c *Centre) reports(js jetstream.JetStream) (jetstream.Consumer, error) {
	ctx, end := context.WithTimeout(c.ctx, 10*time.Second)
	defer end()
	st, err := c.stream(ctx, js)
	if err != nil {
		return nil, err
	}
	up, err := st.CreateOrUpdateConsumer(ctx, jetstream.ConsumerConfig{Durable: "centre",
		AckPolicy: jetstream.AckExplicitPolicy, AckWait: time.Minute, MaxAckPending: 20_000})
	if err != nil {
		return nil, fmt.Errorf("the brokers do not hand over what hosts report: %w", err)
	}
	return up, nil
}

func (c *Centre) stream(ctx context.Context, js jetstream.JetStream) (jetstream.Stream, error) {
	owner := "reports of hosts to the centre " + c.own.fingerprint()
	cfg := jetstream.StreamConfig{Name: streamUp, Description: owner, Subjects: []string{subjectUp + "*"},
		Retention: jetstream.WorkQueuePolicy, Storage: jetstream.FileStorage, MaxBytes: mostUp,
		MaxMsgsPerSubject: mostUpOfHost, Discard: jetstream.DiscardNew, DiscardNewPerSubject: true,
		Duplicates: 2 * time.Minute, MaxMsgSize: mostMessage, Replicas: 1}
	kept := func(st jetstream.Stream, err error) (jetstream.Stream, error) {
		if err != nil {
			return nil, fmt.Errorf("the brokers do not keep what hosts report: %w", err)
		}
		return st, nil
	}
	if c.o.Listen != "" {
		return kept(js.CreateOrUpdateStream(ctx, cfg))
	}
	account, err := js.AccountInfo(ctx)
	switch {
	case errors.Is(err, jetstream.ErrJetStreamNotEnabled), errors.Is(err, jetstream.ErrJetStreamNotEnabledForAccount):
		return nil, errors.New("the account of the centre has no JetStream: switch it on for the brokers and for the " +
			"account, with room on disk")
	case err != nil:
		return nil, fmt.Errorf("the brokers do not say what the account of the centre may: %w", err)
	}
	bounded := func(copies int) jetstream.StreamConfig {
		cfg.Replicas = copies
		if most := account.Limits.MaxStore / int64(copies); most > 0 {
			cfg.MaxBytes = min(mostUp, most-most/10) // the account may have other uses
		}
		return cfg
	}
	st, err := js.Stream(ctx, streamUp)
	if err == nil {
		is := st.CachedInfo().Config
		if is.Description != owner {
			return nil, errors.New("the account of the centre is used by another centre already: each needs an " +
				"account of its own at the brokers")
		}
		if is.Replicas < copies { // the cluster may have grown since
			if st, err := js.UpdateStream(ctx, bounded(copies)); err == nil {
				return st, nil
			}
		}
		return kept(js.UpdateStream(ctx, bounded(is.Replicas)))
	}
	if !errors.Is(err, jetstream.ErrStreamNotFound) {
		return kept(nil, err)
	}
	if st, err = js.CreateStream(ctx, bounded(copies)); err != nil {
		if st, e := js.CreateStream(ctx, bounded(1)); e == nil {
			c.o.Told(fmt.Sprintf("what hosts report is kept by one broker alone, where %d would be safe: %v", copies,
				err))
			return st, nil
		}
	}
	return kept(st, err)
}
