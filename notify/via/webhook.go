package via

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"dimlantern/core/lang"
)

// webhookTimeout is how long a webhook may take to answer.
const webhookTimeout = 15 * time.Second

// The headers by which a receiver can tell that a message is ours, and not an old one that
// somebody sends again: the signature is "v1=" and, in hexadecimal digits, HMAC-SHA256 with
// the shared secret over the timestamp, a point, and the body.
const (
	TimestampHeader = "Dim-Lantern-Timestamp" // seconds since 1970
	SignatureHeader = "Dim-Lantern-Signature"
)

// Sign is the signature of a body at a time.
func Sign(secret []byte, timestamp string, body []byte) string {
	h := hmac.New(sha256.New, secret)
	h.Write([]byte(timestamp + "."))
	h.Write(body)
	return "v1=" + hex.EncodeToString(h.Sum(nil))
}

// webhookWay posts CloudEvents 1.0 as JSON, structured (HTTP Protocol Binding, section 3.2).
type webhookWay struct {
	hook   lang.Webhook
	client *http.Client
}

// Webhook is the way of a webhook. Roots are trusted instead of the system's; nil is the
// system's.
func Webhook(hook lang.Webhook, roots *x509.CertPool) Way {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.MaxIdleConnsPerHost = 8
	transport.TLSClientConfig = &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}
	return &webhookWay{hook, &http.Client{Transport: transport, Timeout: webhookTimeout,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
}

// String leaves out what may be secret in the address.
func (w *webhookWay) String() string {
	u, err := url.Parse(w.hook.URL)
	if err != nil {
		return "webhook"
	}
	return "webhook " + u.Scheme + "://" + u.Host
}

// Event is a CloudEvent 1.0 in JSON (JSON Event Format, section 3).
type Event struct {
	SpecVersion     string          `json:"specversion"`
	ID              string          `json:"id"`
	Source          string          `json:"source"`
	Type            string          `json:"type"`
	Subject         string          `json:"subject,omitempty"`
	Time            string          `json:"time"`
	DataContentType string          `json:"datacontenttype"`
	Data            json.RawMessage `json:"data"`
}

// eventOf is a message as an event. Of one alert its type says what happened.
func eventOf(m *Message) *Event {
	e := &Event{SpecVersion: "1.0", ID: m.ID, Source: "/dim-lantern/" + url.PathEscape(m.Host), Type: "dim-lantern." +
		strings.ReplaceAll(m.Kind, " ", "-"),
		Time: m.Made.UTC().Format("2006-01-02T15:04:05.000Z"), DataContentType: "application/json"}
	if m.Kind == KindAlert && len(m.Alerts) == 1 {
		a := &m.Alerts[0]
		e.Type = "dim-lantern.alert." + a.Change
		e.Subject = a.Rule
		for _, f := range a.Fields {
			e.Subject += "/" + url.PathEscape(a.Key[f])
		}
	}
	data := *m
	data.HTML, data.Picture = "", nil
	e.Data = mustJSON(data)
	return e
}

// Tell is part of Way. An answer from 200 to 299 is taken for yes.
func (w *webhookWay) Tell(ctx context.Context, m *Message) (string, error) {
	return w.post(ctx, eventOf(m))
}

func (w *webhookWay) post(ctx context.Context, e *Event) (string, error) {
	body := mustJSON(e)
	where := "posting to " + strings.TrimPrefix(w.String(), "webhook ")
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, w.hook.URL, bytes.NewReader(body))
	if err != nil {
		return "", &Problem{Where: where, What: "this is no address", Err: err, Final: true}
	}
	req.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	req.Header.Set("User-Agent", "dim-lantern")
	if w.hook.Secret != "" {
		secret, err := secretOf(w.hook.Secret)
		if err != nil {
			return "", err
		}
		at := strconv.FormatInt(time.Now().Unix(), 10)
		req.Header.Set(TimestampHeader, at)
		req.Header.Set(SignatureHeader, Sign(secret, at, body))
	}
	resp, err := w.client.Do(req)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return "", problem(where, err)
	}
	defer resp.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(resp.Body, 2048))
	words := strings.TrimSpace(fmt.Sprintf("%d %s", resp.StatusCode, http.StatusText(resp.StatusCode)))
	if text := oneLine(string(said)); text != "" && resp.StatusCode >= 300 {
		words += ": " + text[:min(len(text), 200)]
	}
	switch {
	case resp.StatusCode >= 200 && resp.StatusCode < 300:
		return words, nil
	case resp.StatusCode >= 300 && resp.StatusCode < 400:
		return "", &Problem{Where: where, What: "it sends elsewhere (" + words + ")",
			Mend: "write the address to which it leads; no other is followed"}
	case resp.StatusCode == http.StatusUnauthorized, resp.StatusCode == http.StatusForbidden:
		return "", &Problem{Where: where, What: "it does not let this in (" + words + ")",
			Mend: "look at the address and at the secret"}
	case resp.StatusCode == http.StatusNotFound, resp.StatusCode == http.StatusGone:
		return "", &Problem{Where: where, What: "there is no such place (" + words + ")", Mend: "look at the address"}
	}
	return "", &Problem{Where: where, What: "it answered " + words, Refused: true, After: retryAfter(resp)}
}

// Abreast tells that several may be told at once.
func (w *webhookWay) Abreast() bool { return true }

// mostAfter is how long a receiver may ask to be left alone.
const mostAfter = 10 * time.Minute

// retryAfter is how long the receiver asks to be left alone (RFC 9110, section 10.2.3).
func retryAfter(resp *http.Response) time.Duration {
	v := resp.Header.Get("Retry-After")
	d := time.Duration(0)
	if n, err := strconv.Atoi(v); err == nil && n > 0 {
		d = time.Duration(min(n, 1<<20)) * time.Second
	} else if at, err := http.ParseTime(v); err == nil {
		d = time.Until(at)
	}
	return min(max(d, 0), mostAfter)
}

// Beat posts that Dim Lantern is there and well, or in words what is the matter with it.
func Beat(ctx context.Context, address, host string, every time.Duration, trouble []string,
	roots *x509.CertPool) error {
	w := Webhook(lang.Webhook{URL: address}, roots).(*webhookWay)
	defer w.client.CloseIdleConnections()
	now := time.Now().UTC()
	e := &Event{SpecVersion: "1.0", ID: fmt.Sprintf("beat-%d", now.UnixNano()), Source: "/dim-lantern/" +
		url.PathEscape(host), Type: "dim-lantern.heartbeat",
		Time: now.Format("2006-01-02T15:04:05.000Z"), DataContentType: "application/json",
		Data: mustJSON(struct {
			Host    string   `json:"host"`
			Every   float64  `json:"every_s"`
			Well    bool     `json:"well"`
			Trouble []string `json:"trouble,omitempty"`
		}{host, every.Seconds(), len(trouble) == 0, trouble})}
	_, err := w.post(ctx, e)
	return err
}
