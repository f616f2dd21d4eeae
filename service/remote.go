package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"
)

// socketPath is where a service listens: in its data folder, so that only the
// owner of the folder can reach it. Sockets have short names.
func socketPath(data string) string {
	p := filepath.Join(data, "socket")
	if len(p) > 100 {
		return ""
	}
	return p
}

// Serve answers on the local socket until the context ends.
func (s *Service) Serve(ctx context.Context) error {
	path := socketPath(s.o.Data)
	if path == "" {
		return fmt.Errorf("the name of the data folder %s is too long for a socket; others cannot join this service", s.o.Data)
	}
	os.Remove(path) // the lock is ours, so whoever left it has gone
	l, err := net.Listen("unix", path)
	if err != nil {
		return err
	}
	os.Chmod(path, 0o600)
	l = owners{l}
	mux := http.NewServeMux()
	handle(mux, "/view", s.View)
	handle(mux, "/news", s.News)
	handle(mux, "/detail", s.Detail)
	handle(mux, "/bring", s.Bring)
	handle(mux, "/begin", s.BeginRule)
	handle(mux, "/sources", s.Sources)
	handle(mux, "/entries", s.Entries)
	handle(mux, "/fields", s.Fields)
	handle(mux, "/why", s.Why)
	handle(mux, "/curve", s.Curve)
	handle(mux, "/bench", s.Bench)
	handle(mux, "/mark", s.Mark)
	handle(mux, "/put", s.Put)
	handle(mux, "/act", s.Act)
	handle(mux, "/hushes", func(ctx context.Context, _ struct{}) (*HushList, error) { return s.HushesNow(ctx) })
	handle(mux, "/status", func(ctx context.Context, _ struct{}) (*Status, error) { return s.StatusNow(ctx) })
	handle(mux, "/handover", s.Handover)
	handle(mux, "/others", s.Others)
	handle(mux, "/tests", s.Tests)
	handle(mux, "/propose", s.Propose)
	handle(mux, "/past", s.Past)
	handle(mux, "/bench/open", s.BenchOpen)
	handle(mux, "/bench/new", s.BenchNew)
	handle(mux, "/bench/write", func(ctx context.Context, q BenchSave) (*struct{}, error) { return nil, s.BenchWrite(ctx, q) })
	handle(mux, "/clear", func(ctx context.Context, q ClearQuery) (*struct{}, error) { return nil, s.Clear(ctx, q) })
	handle(mux, "/apply", func(ctx context.Context, _ struct{}) (*struct{}, error) { return nil, s.Apply(ctx) })
	handle(mux, "/rules", func(ctx context.Context, _ struct{}) (*RulesView, error) { return s.Rules(ctx) })
	srv := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
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

func handle[Q, A any](mux *http.ServeMux, path string, f func(context.Context, Q) (A, error)) {
	mux.HandleFunc("POST "+path, func(w http.ResponseWriter, r *http.Request) {
		var q Q
		if err := json.NewDecoder(io.LimitReader(r.Body, 32<<20)).Decode(&q); err != nil {
			http.Error(w, "this is not JSON: "+err.Error(), http.StatusBadRequest)
			return
		}
		a, err := f(r.Context(), q)
		if err != nil {
			http.Error(w, err.Error(), http.StatusConflict)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(a)
	})
}

// Remote is a Lantern that asks a service in another process.
type Remote struct{ client *http.Client }

// Join returns a Remote for the service of a data folder. Whether one is there
// shows when it is asked.
func Join(data string) *Remote {
	path := socketPath(data)
	return &Remote{&http.Client{Transport: &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{Timeout: 2 * time.Second}).DialContext(ctx, "unix", path)
		},
	}}}
}

func call[A any](ctx context.Context, r *Remote, path string, q any) (*A, error) {
	body, err := json.Marshal(q)
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://lantern"+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	resp, err := r.client.Do(req)
	if err != nil {
		return nil, fmt.Errorf("the service does not answer: %w", errors.Unwrap(err))
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		b, _ := io.ReadAll(io.LimitReader(resp.Body, 4096))
		return nil, errors.New(string(bytes.TrimSpace(b)))
	}
	a := new(A)
	return a, json.NewDecoder(resp.Body).Decode(a)
}

// View is part of Lantern.
func (r *Remote) View(ctx context.Context, q ViewQuery) (*View, error) {
	return call[View](ctx, r, "/view", q)
}

// Detail is part of Lantern.
func (r *Remote) Detail(ctx context.Context, q DetailQuery) (*Detail, error) {
	return call[Detail](ctx, r, "/detail", q)
}

// Bring is part of Lantern.
func (r *Remote) Bring(ctx context.Context, q BringQuery) (*Brought, error) {
	return call[Brought](ctx, r, "/bring", q)
}

// BeginRule is part of Lantern.
func (r *Remote) BeginRule(ctx context.Context, q BeginQuery) (*Begun, error) {
	return call[Begun](ctx, r, "/begin", q)
}

// Why is part of Lantern.
func (r *Remote) Why(ctx context.Context, q WhyQuery) (*Why, error) {
	return call[Why](ctx, r, "/why", q)
}

// Curve is part of Lantern.
func (r *Remote) Curve(ctx context.Context, q CurveQuery) (*Curves, error) {
	return call[Curves](ctx, r, "/curve", q)
}

// Bench is part of Lantern.
func (r *Remote) Bench(ctx context.Context, q BenchQuery) (*BenchView, error) {
	return call[BenchView](ctx, r, "/bench", q)
}

// Propose is part of Lantern.
func (r *Remote) Propose(ctx context.Context, q BenchQuery) (*Proposals, error) {
	return call[Proposals](ctx, r, "/propose", q)
}

// Tests is part of Lantern.
func (r *Remote) Tests(ctx context.Context, q BenchQuery) (*Put, error) {
	return call[Put](ctx, r, "/tests", q)
}

// Others is part of Lantern.
func (r *Remote) Others(ctx context.Context, q BenchQuery) (*BenchOthers, error) {
	return call[BenchOthers](ctx, r, "/others", q)
}

// Put is part of Lantern.
func (r *Remote) Put(ctx context.Context, q PutQuery) (*Put, error) {
	return call[Put](ctx, r, "/put", q)
}

// Past is part of Lantern.
func (r *Remote) Past(ctx context.Context, q PastQuery) (*PastPuts, error) {
	return call[PastPuts](ctx, r, "/past", q)
}

// Mark is part of Lantern.
func (r *Remote) Mark(ctx context.Context, q MarkQuery) (*Marked, error) {
	return call[Marked](ctx, r, "/mark", q)
}

// BenchOpen is part of Lantern.
func (r *Remote) BenchOpen(ctx context.Context, q BenchFile) (*BenchFile, error) {
	return call[BenchFile](ctx, r, "/bench/open", q)
}

// BenchNew is part of Lantern.
func (r *Remote) BenchNew(ctx context.Context, q BenchBegin) (*BenchFile, error) {
	return call[BenchFile](ctx, r, "/bench/new", q)
}

// BenchWrite is part of Lantern.
func (r *Remote) BenchWrite(ctx context.Context, q BenchSave) error {
	_, err := call[struct{}](ctx, r, "/bench/write", q)
	return err
}

// Act is part of Lantern.
func (r *Remote) Act(ctx context.Context, q ActQuery) (*ActDone, error) {
	return call[ActDone](ctx, r, "/act", q)
}

// HushesNow is part of Lantern.
func (r *Remote) HushesNow(ctx context.Context) (*HushList, error) {
	return call[HushList](ctx, r, "/hushes", struct{}{})
}

// StatusNow is part of Lantern.
func (r *Remote) StatusNow(ctx context.Context) (*Status, error) {
	return call[Status](ctx, r, "/status", struct{}{})
}

// Handover is part of Lantern.
func (r *Remote) Handover(ctx context.Context, q ShiftQuery) (*Shift, error) {
	return call[Shift](ctx, r, "/handover", q)
}

// Clear is part of Lantern.
func (r *Remote) Clear(ctx context.Context, q ClearQuery) error {
	_, err := call[struct{}](ctx, r, "/clear", q)
	return err
}

// News is part of Lantern.
func (r *Remote) News(ctx context.Context, q NewsQuery) (*News, error) {
	return call[News](ctx, r, "/news", q)
}

// Rules is part of Lantern.
func (r *Remote) Rules(ctx context.Context) (*RulesView, error) {
	return call[RulesView](ctx, r, "/rules", struct{}{})
}

// Apply is part of Lantern.
func (r *Remote) Apply(ctx context.Context) error {
	_, err := call[struct{}](ctx, r, "/apply", struct{}{})
	return err
}

// Sources is part of Lantern.
func (r *Remote) Sources(ctx context.Context, q ViewQuery) (*SourcesView, error) {
	return call[SourcesView](ctx, r, "/sources", q)
}

// Entries is part of Lantern.
func (r *Remote) Entries(ctx context.Context, q EntriesQuery) (*Entries, error) {
	return call[Entries](ctx, r, "/entries", q)
}

// Fields is part of Lantern.
func (r *Remote) Fields(ctx context.Context, q FieldsQuery) (*FieldsView, error) {
	return call[FieldsView](ctx, r, "/fields", q)
}
