package notify

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base32"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/draw"
	"dimlantern/notify/via"
	"dimlantern/store"
)

// make makes a message of tellings, one for each way of the contact; brief in a storm.
func (o *Outbox) make(ctx context.Context, name string, c *lang.Contact, kind string, about []store.Telling,
	brief bool) (out store.Made, err error) {
	sn := o.Window.Now()
	mail, host := sn.Settings.Mail, sn.Host
	o.mu.Lock()
	o.made = max(entry.Of(time.Now()), o.made+1) // each a moment of its own, so that their order is one
	at := o.made
	o.mu.Unlock()
	now := at.Time()
	sum := sha256.New()
	turn := entry.Severity(0)
	for _, t := range about {
		fmt.Fprintf(sum, "%s %d %s\n", t.Contact, t.Seq, t.Line)
		out.Tellings = append(out.Tellings, t.Seq)
		turn = max(turn, t.Severity)
		if t.Alert != "" {
			out.Alerts = append(out.Alerts, t.Alert)
		}
	}
	sum.Write(sn.Secret)
	group := strings.ToLower(base32.HexEncoding.EncodeToString(sum.Sum(nil))[:20])
	m := &via.Message{Kind: kind, Made: now.UTC(), Host: host, Contact: name, Take: sn.House.TakeWith()}
	switch kind {
	case via.KindBlind:
		var b blindNews
		json.Unmarshal([]byte(about[0].Line), &b)
		m.Severity = "notice"
		m.Subject = entry.Visible(b.Origin) + " can be seen again"
		if b.Blind {
			m.Severity, m.Subject = "warning", entry.Visible(b.Origin)+" cannot be seen: "+b.Words
		}
	case via.KindCaught:
		for _, t := range about {
			var u caughtUp
			json.Unmarshal([]byte(t.Line), &u)
			for _, l := range append(u.Open, u.Ended...) {
				m.Alerts = append(m.Alerts, o.news(ctx, string(l), false, brief))
			}
		}
	default:
		for _, t := range about {
			m.Alerts = append(m.Alerts, o.news(ctx, t.Line, len(about) <= 3, brief))
		}
	}
	if m.Alerts = via.Together(m.Alerts); len(m.Alerts) == 1 && kind != via.KindCaught {
		m.Kind = via.KindAlert
	}
	worst := entry.Severity(0)
	for _, a := range m.Alerts {
		worst = max(worst, entry.SeverityOf(a.Severity))
	}
	if worst > 0 {
		m.Severity = worst.String()
	}
	root := ""
	if len(m.Alerts) == 1 && about[0].Alert != "" {
		root = o.Store.FirstGroup(name, about[0].Alert)
	}
	words, err := o.wordsNow()
	if err != nil {
		o.Log.Warn("a template of messages is not right; the one that comes with Dim Lantern is used", "reason", err)
	}
	if len(m.Alerts) == 1 && len(c.Mail) > 0 {
		m.Picture = o.picture(&m.Alerts[0])
	}
	if err := words.Fill(m, len(c.Mail) > 0); err != nil {
		return out, err
	}
	alert := ""
	if len(m.Alerts) == 1 {
		alert = m.Alerts[0].Alert
	}
	for i := range o.waysOf(name, c, mail) {
		x := *m
		x.ID = fmt.Sprintf("%s.%d", group, i)
		if i > 0 || len(c.Mail) == 0 { // mail alone shows them
			x.HTML, x.Picture = "", nil
		}
		if root != "" {
			x.Root = fmt.Sprintf("%s.%d", root, i)
		}
		body, err := json.Marshal(x)
		if err != nil {
			return out, err
		}
		out.Messages = append(out.Messages, store.Message{ID: x.ID, Group: group, Contact: name, Way: i, Alert: alert,
			Severity: turn, Made: at, Body: body})
	}
	if len(out.Messages) == 0 {
		return out, o.Store.Drop(out.Tellings, "the contact has no way to be told")
	}
	return out, nil
}

// wordsNow are the templates as they are now. With an error in one of the folder's they
// are those that come with Dim Lantern.
func (o *Outbox) wordsNow() (*via.Words, error) {
	sn := o.Window.Now()
	dir, zone := sn.Folder(), sn.Zone()
	of := zone.String() + templateStamp(dir)
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.words != nil && o.of == of {
		return o.words, nil
	}
	w, err := via.ReadWords(dir, zone)
	if err != nil {
		var own error
		if w, own = via.ReadWords("", zone); own != nil {
			return nil, own
		}
	}
	o.words, o.of = w, of
	return w, err
}

// news is a transition as a message tells it, with its evidence where it is told in full;
// brief is without the lines around the hits.
func (o *Outbox) news(ctx context.Context, line string, full, brief bool) via.News {
	var t engine.Transition
	json.Unmarshal([]byte(line), &t) // of our own making; what is lacking is left out
	n := via.News{Change: t.Change, Rule: t.Rule, Key: map[string]string{}, Severity: t.Severity.String(),
		Alert: t.Alert, Count: t.Count, Why: entry.Visible(t.Why), Say: entry.Visible(t.Say),
		By: entry.Visible(t.By), Words: entry.Visible(t.Words)}
	for i, f := range t.Fields {
		n.Key[f] = entry.Visible(t.Key[i])
	}
	if t.Reporter != "" {
		n.Key[engine.ReporterField] = entry.Visible(t.Reporter)
	}
	n.At = t.At.Time()
	n.Since = n.At
	if a, ok := o.Store.AlertOf(t.Alert); ok {
		n.Since = a.Raised.Time()
	}
	r := o.Window.Now().Settings.Rule(t.Rule)
	var key []string
	if n.Own = r != nil && r.Say != ""; r != nil {
		n.Where = o.where(&t, r)
		n.Fields = r.Per
		for _, f := range r.Per {
			key = append(key, t.Value(f))
		}
		if t.Reporter != "" {
			key = append(key, t.Reporter)
		}
	}
	if !full || r == nil {
		return n
	}
	d, err := o.Detail(ctx, api.DetailQuery{Rule: t.Rule, Key: key, Alert: t.Alert, Lines: evidenceOf, Brief: brief})
	if err != nil {
		return n
	}
	n.Advise, n.Place = entry.Visible(d.Advise), entry.Visible(d.Origin)
	for _, c := range d.Clears {
		if c == "by hand" && len(d.Clears) > 1 { // which always goes
			continue
		}
		n.Clears = append(n.Clears, entry.Visible(c))
	}
	// The newest hit comes first, and what was said before it below.
	first := max(slices.IndexFunc(d.Lines, func(l api.Evidence) bool { return l.Hit || l.Recovery }), 0)
	lines := d.Lines[min(first, len(d.Lines)):]
	for _, l := range lines[:min(len(lines), evidenceOf)] {
		text := visibleLines(l.Text)
		if len(text) > 500 {
			text = strings.ToValidUTF8(text[:500], "") + "…"
		}
		n.Evidence = append(n.Evidence, via.Line{At: l.At.Time(), Text: text, Lit: l.Hit || l.Recovery})
	}
	return n
}

// where is the host that a transition concerns; "" where several may.
func (o *Outbox) where(t *engine.Transition, r *lang.Rule) string {
	if slices.Contains(r.Per, "host") {
		return entry.Visible(t.Value("host"))
	}
	origin := t.Value("origin")
	if t.Entry != nil {
		origin = t.Entry.Origin
	}
	host, _, _ := strings.Cut(origin, ":")
	return entry.Visible(host)
}

// visibleLines is a text as it may be shown, with its lines kept apart.
func visibleLines(text string) string {
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	for i, l := range lines {
		lines[i] = entry.Visible(l)
	}
	return strings.Join(lines, "\n            ")
}

// picture draws the lifeline of an alert's key; nil where it cannot.
func (o *Outbox) picture(n *via.News) []byte {
	a, ok := o.Store.AlertOf(n.Alert)
	if !ok {
		return nil
	}
	hits, err := o.Store.HitsOf(a.KeyID, entry.Of(n.At), 400)
	if err != nil {
		return nil
	}
	row := draw.Row{Rule: n.Rule, Key: strings.Join(a.Key, " ")}
	from, to := a.Raised, entry.Of(n.At)
	for _, h := range hits {
		if !h.Recovery {
			row.Hits = append(row.Hits, h.At)
			if a.Raised.Sub(h.At) < time.Hour {
				from = min(from, h.At)
			}
		}
	}
	changes, err := o.Store.Changes(n.Alert)
	if err != nil {
		return nil
	}
	bar := draw.Alert{From: a.Raised, To: a.Cleared, Why: a.Why}
	for _, c := range changes {
		if c.Change == "raised" || c.Change == "worsened" {
			bar.Steps = append(bar.Steps, draw.Step{At: c.At, Severity: c.Severity})
		}
	}
	row.Alerts = []draw.Alert{bar}
	span := max(to.Sub(from), 10*time.Minute)
	chart := &draw.Chart{Title: n.Say, From: from.Add(-span / 8), To: to.Add(span / 20), Zone: o.Window.Now().Zone(),
		Rows: []draw.Row{row}}
	slices.Sort(row.Hits)
	row.Hits = slices.DeleteFunc(row.Hits, func(h entry.Instant) bool { return h < chart.From })
	chart.Rows[0] = row
	var b bytes.Buffer
	if chart.PNG(&b, 120) != nil {
		return nil
	}
	return b.Bytes()
}
