package api_test

import (
	"context"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"testing"
	"time"

	"dimlantern/api"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// served returns a client of a desk that is behind a socket.
func served(t *testing.T, d *api.Desk) *api.Client {
	t.Helper()
	path := filepath.Join(t.TempDir(), "socket")
	l, err := net.Listen("unix", path)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- d.Serve(ctx, l, nil) }()
	t.Cleanup(func() { stop(); require.NoError(t, <-done) })
	return api.Join(path)
}

// Whoever asks gets the same answer and the same problem, at the desk and over the wire.
func TestDeskAndWireAreTheSame(t *testing.T) {
	d := api.NewDesk()
	changed := &api.Problem{Code: api.Changed, What: "it is not what it was", Where: "a.lantern",
		Mend: "open it again"}
	api.OpenText.Answer(d, func(_ context.Context, q api.BenchFile) (*api.BenchFile, error) {
		switch q.File {
		case "changed":
			return nil, changed
		case "wrapped":
			return nil, fmt.Errorf("while reading: %w", changed)
		case "plain":
			return nil, errors.New("it failed")
		}
		return &api.BenchFile{File: q.File, Body: "rule a {}"}, nil
	})
	api.DoApply.Answer(d, func(context.Context, api.None) (*api.None, error) { return nil, nil })
	for name, l := range map[string]api.Lantern{"desk": d, "wire": served(t, d)} {
		ask := func(file string) (*api.BenchFile, error) {
			return api.OpenText.Call(context.Background(), l, api.BenchFile{File: file})
		}
		a, err := ask("b")
		require.NoError(t, err, name)
		assert.Equal(t, &api.BenchFile{File: "b", Body: "rule a {}"}, a, name)
		_, err = ask("changed")
		assert.ErrorIs(t, err, api.Changed, name)
		var p *api.Problem
		require.ErrorAs(t, err, &p, name)
		assert.Equal(t, changed, p, name)
		_, err = ask("wrapped")
		assert.ErrorIs(t, err, api.Changed, name)
		assert.EqualError(t, err, "while reading: a.lantern: it is not what it was; open it again", name)
		_, err = ask("plain")
		assert.EqualError(t, err, "it failed", name)
		_, err = api.DoApply.Call(context.Background(), l, api.None{})
		require.NoError(t, err, name)
		_, err = api.AskView.Call(context.Background(), l, api.ViewQuery{})
		assert.ErrorIs(t, err, api.Unknown, name)
	}
}

// Who stops waiting stops the work on the answer as well.
func TestWhoLeavesEndsTheWork(t *testing.T) {
	d := api.NewDesk()
	begun, ended := make(chan struct{}, 1), make(chan error, 1)
	api.AskNews.Answer(d, func(ctx context.Context, _ api.NewsQuery) (*api.News, error) {
		begun <- struct{}{}
		<-ctx.Done()
		ended <- ctx.Err()
		return nil, ctx.Err()
	})
	for name, l := range map[string]api.Lantern{"desk": d, "wire": served(t, d)} {
		ctx, leave := context.WithCancel(context.Background())
		answered := make(chan error, 1)
		go func() {
			_, err := api.AskNews.Call(ctx, l, api.NewsQuery{})
			answered <- err
		}()
		<-begun
		leave()
		assert.Error(t, <-answered, name)
		select {
		case err := <-ended:
			assert.ErrorIs(t, err, context.Canceled, name)
		case <-time.After(10 * time.Second):
			t.Fatal(name, "the work goes on")
		}
	}
}

// A client of nobody says so.
func TestNobodyAnswers(t *testing.T) {
	_, err := api.AskStatus.Call(context.Background(), api.Join(filepath.Join(t.TempDir(), "socket")), api.None{})
	assert.ErrorIs(t, err, api.NoAnswer)
	assert.ErrorContains(t, err, "the service does not answer")
}
