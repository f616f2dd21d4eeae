package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"time"
)

// mostAsked bounds a question on the wire, in bytes.
const mostAsked = 32 << 20

// ServeHTTP answers questions that come as JSON: POST to the endpoint's path. What cannot
// be answered comes back as a Problem, with the status 409.
func (d *Desk) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h, ok := d.answers[r.URL.Path]
	if !ok {
		writeProblem(w, http.StatusNotFound, unknown(r.URL.Path))
		return
	}
	q := h.question()
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, mostAsked)).Decode(q); err != nil {
		writeProblem(w, http.StatusBadRequest, &Problem{Code: BadQuestion, What: "this is no question: " +
			err.Error()})
		return
	}
	if p := allowed(r.Context(), r.URL.Path); p != nil {
		writeProblem(w, http.StatusForbidden, p)
		return
	}
	asker(r, q)
	a, err := h.answer(r.Context(), q)
	if err != nil {
		writeProblem(w, http.StatusConflict, problemOf(err))
		return
	}
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(a) // who does not listen any more gets no answer
}

func writeProblem(w http.ResponseWriter, status int, p *Problem) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(p)
}

// Serve answers at a listener until the context ends, and closes it. Who says what somebody may do who has come by
// a connection; nil lets all do everything.
func (d *Desk) Serve(ctx context.Context, l net.Listener, who func(context.Context, net.Conn) context.Context) error {
	srv := &http.Server{Handler: d, ReadHeaderTimeout: 10 * time.Second, ConnContext: who,
		BaseContext: func(net.Listener) context.Context { return ctx }}
	go func() {
		<-ctx.Done()
		stop, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		srv.Shutdown(stop)
	}()
	if err := srv.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// Client is a Lantern that asks a service in another process.
type Client struct{ http *http.Client }

// Join returns a client of the service that listens at a Unix socket. Whether one does
// shows when it is asked.
func Join(socket string) *Client {
	return &Client{&http.Client{Transport: &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{Timeout: 2 * time.Second}).DialContext(ctx, "unix", socket)
		},
	}}}
}

func (c *Client) answer(ctx context.Context, path string, q, into any) error {
	body, err := json.Marshal(q)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://lantern"+path, bytes.NewReader(body))
	if err != nil {
		return err
	}
	resp, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return fmt.Errorf("the service does not answer: %w", context.Cause(ctx))
		}
		return &Problem{Code: NoAnswer, What: fmt.Sprintf("the service does not answer: %v", errors.Unwrap(err))}
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return readProblem(resp.Body)
	}
	if err := json.NewDecoder(resp.Body).Decode(into); err != nil && !errors.Is(err, io.EOF) {
		return &Problem{Code: NoAnswer, What: fmt.Sprintf("the answer of the service cannot be read: %v", err)}
	}
	return nil
}
