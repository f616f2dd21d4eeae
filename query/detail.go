package query

import (
	"context"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"dimlantern/api"
	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
	"dimlantern/store"
)

// Detail is what is known of one row of a view.
func (s *Asker) Detail(ctx context.Context, q api.DetailQuery) (*api.Detail, error) {
	d := &api.Detail{}
	at := q.At
	if at == 0 {
		at = entry.Of(time.Now())
	}
	if q.Origin != "" {
		return s.originDetail(q, at)
	}
	sn := s.Window.Now()
	settings := sn.Settings
	r := settings.Rule(q.Rule)
	key, _ := sn.Engine.KeyOf(q.Rule, q.Key)
	view, open := key, key.Alert == q.Alert && q.Alert != ""
	if !open && len(q.Key) == 0 {
		view, open = sn.Engine.Find(q.Alert)
	}
	if r == nil {
		d.Unread = "the rule is not in the settings any more"
	} else {
		d.Advise = r.Advise
		d.RuleAt = fmt.Sprintf("%s:%d", filepath.Base(r.Pos.File), r.Pos.Line)
		d.Fields, d.About = r.Per, r.About
	}
	id := s.Store.KeyID(q.Rule, q.Key)
	limit := min(max(q.Lines, 1), 500)
	hits, err := s.Store.HitsOf(id, at, limit)
	if err != nil {
		return nil, err
	}
	var changes []engine.Transition
	if q.Alert != "" {
		if changes, err = s.Store.Changes(q.Alert); err != nil {
			return nil, err
		}
	}
	s.story(d, r, changes, hits, at)
	if !q.Brief {
		s.toldStory(d, q.Alert, at)
	}
	if r != nil {
		known := map[string]string{}
		for i, f := range r.Per {
			if i < len(q.Key) && q.Key[i] != "?" {
				known[f] = q.Key[i]
			}
		}
		d.Clears = clears(r, known, view, open && q.At == 0, changes, hits, at)
		vars := s.varsOf(settings, r, hits, at)
		d.Advise = engine.Fill(r.Advise, func(f string) string {
			if v := vars[f]; v != "" {
				return v
			}
			if i := slices.Index(r.Per, f); i >= 0 && i < len(q.Key) {
				return q.Key[i]
			}
			return "{" + f + "}"
		})
	}
	s.evidence(d, q, settings, r, hits, at)
	for _, h := range slices.Backward(hits) {
		if !h.Recovery {
			d.Newest = h.Text
		}
	}
	if len(hits) == 0 {
		s.lastWords(ctx, d, q, key, at)
	}
	if o := sn.Origin(d.Origin); o != nil {
		d.Source = o.Source.Name
	}
	return d, nil
}

// lastWords shows what the origin of a key said last, of one that has no hits: what was
// to come did not.
func (s *Asker) lastWords(ctx context.Context, d *api.Detail, q api.DetailQuery, key engine.KeyView,
	at entry.Instant) {
	if key.Heard != entry.None && key.Heard <= at && key.Heard != 0 {
		d.Story = append(d.Story, api.Event{At: key.Heard, Text: "heard"})
		sort.SliceStable(d.Story, func(i, j int) bool { return d.Story[i].At > d.Story[j].At })
	}
	if len(key.Origins) == 0 {
		d.Unread = "nothing was ever heard of it"
		return
	}
	said, err := s.Entries(ctx, api.EntriesQuery{Origin: key.Origins[len(key.Origins)-1], At: q.At,
		Lines: max(q.Lines, 1)})
	if err != nil {
		d.Unread = err.Error()
		return
	}
	d.Origin = said.Origin
	_, path, _ := strings.Cut(said.Origin, ":")
	d.Host = filepath.Base(path)
	if i := slices.Index(d.Fields, "host"); i >= 0 && i < len(q.Key) {
		d.Host = q.Key[i]
	}
	l := s.Window.Now().Settings.Layout(said.Layout)
	div := &layout.Divider{}
	if l != nil {
		div.Layout = layout.Compile(l, time.Local, nil)
	}
	for i, x := range said.Lines {
		if i == 0 {
			d.Newest = x.Raw
		}
		d.Lines = append(d.Lines, api.Evidence{At: x.At, Text: told(l, div, x.Raw, at)})
	}
}

// varsOf are the fields that the rule's texts name, as its newest hit has them.
func (s *Asker) varsOf(settings *lang.Settings, r *lang.Rule, hits []store.Hit, at entry.Instant) map[string]string {
	want := r.Vars()
	i := slices.IndexFunc(hits, func(h store.Hit) bool { return !h.Recovery })
	if len(want) == 0 || i < 0 {
		return nil
	}
	src := s.Window.Now().Source(hits[i].Origin)
	if src == nil {
		return nil
	}
	plan := match.NewPlan(settings, src, nil, time.Local)
	x, line := plan.Divide(&layout.Divider{Layout: plan.Layout}, []byte(hits[i].Text), at)
	v, ok := match.Judge(r, &entry.Entry{Raw: string(line), At: hits[i].At, Origin: hits[i].Origin, Fields: x.Fields,
		Fits: x.Fits}, match.MayProblem, want)
	if !ok {
		return nil
	}
	out := map[string]string{}
	for _, f := range v.Vars {
		out[f.Name] = f.Value
	}
	return out
}

// story tells what happened to an alert, newest first.
func (s *Asker) story(d *api.Detail, r *lang.Rule, changes []engine.Transition, hits []store.Hit, at entry.Instant) {
	var first entry.Instant = entry.None
	cleared, taken := false, false
	reminded := entry.None // from when reminders count
	contacts := len(s.Window.Now().Settings.Contacts) > 0
	for _, t := range changes {
		if t.At > at {
			continue
		}
		d.Say = t.Say
		e := api.Event{At: t.At, Change: t.Change, Severity: t.Severity, Why: t.Why}
		switch t.Change {
		case engine.Taken:
			taken = true
		case engine.Noted:
			if t.LetGo {
				taken, reminded = false, t.At
			}
		case engine.Raised, engine.Worsened, engine.Repeated, engine.Reopened:
			reminded = t.At
		}
		switch t.Change {
		case engine.Raised:
			e.Text = "raised, " + articled(t.Severity.String())
			first = t.First
		case engine.Worsened:
			e.Text = "worsened to " + t.Severity.String()
		case engine.Repeated:
			e.Text = "still open: told again"
		case engine.Cleared:
			cleared = true
			e.Text = "over: " + endWords(t.Why)
			if t.By != "" {
				e.Text += ", by " + t.By
			}
			e.Why = t.Words
		case engine.Reopened:
			e.Text = "open again, " + articled(t.Severity.String())
		case engine.Taken:
			e.Text, e.Why = "taken by "+t.By, t.Words
		case engine.Noted:
			e.Text, e.Why = t.By+" noted: "+t.Words, ""
		case engine.Hushed:
			e.Text, e.Why = "hushed by "+t.By, t.Words
			if t.Until != 0 {
				e.Text += ", until " + api.Clock(t.Until)
			}
		case engine.Unhushed:
			e.Text, e.Why = "no longer hushed", t.Words
		default:
			e.Text = t.Change
		}
		if t.Untold != "" && contacts {
			e.Text += ", told nobody (" + string(t.Untold) + ")"
		}
		d.Story = append([]api.Event{e}, d.Story...)
	}
	if first != entry.None {
		d.Story = append(d.Story, api.Event{At: first, Text: "first hit"})
	}
	for _, h := range hits {
		if !h.Recovery && !cleared && h.At <= at && len(d.Story) > 0 {
			if h.At > d.Story[0].At {
				e := api.Event{At: h.At, Text: "newest hit"}
				if r != nil && r.Remind > 0 && !taken && reminded != entry.None {
					e.Text += "; told again at " + api.Clock(reminded.Add(r.Remind))
				}
				d.Story = append([]api.Event{e}, d.Story...)
			}
			break
		}
	}
	if len(changes) == 0 {
		for i, h := range hits {
			if i < 12 {
				d.Story = append(d.Story, api.Event{At: h.At, Text: "a hit, below the threshold"})
			}
		}
	}
}

func articled(s string) string {
	if strings.ContainsRune("aeiou", rune(s[0])) {
		return "an " + s
	}
	return "a " + s
}

func endWords(why string) string {
	switch why {
	case "quiet":
		return "it stayed quiet"
	case "recovery":
		return "the recovery came"
	case "hand":
		return "cleared by hand"
	case "heard":
		return "what was awaited came"
	case "seen":
		return "it can be seen again"
	case "eased":
		return "the numbers eased"
	case "age":
		return "it had been open for so long"
	case "rule changed":
		return "the rule was changed"
	case "rule removed":
		return "the rule was removed"
	}
	return why
}

// clears says what will clear the alert, and when at the earliest; or how it
// ended.
func clears(r *lang.Rule, known map[string]string, view engine.KeyView, open bool, changes []engine.Transition,
	hits []store.Hit, at entry.Instant) []string {
	for _, c := range changes {
		if c.Change == engine.Cleared && c.At <= at {
			return []string{"it is over since " + api.Clock(c.At)}
		}
	}
	var out []string
	if open && view.Rests {
		return []string{"nothing, since its source is off: it stays as it is", "by hand"}
	}
	if r.OnRecovery && r.Recovery != nil {
		word := "on "
		if r.RecoverAt > 1 {
			word = fmt.Sprintf("on %d × ", r.RecoverAt)
		}
		if r.RecoverIn > 0 {
			word = fmt.Sprintf("on %d in %s × ", r.RecoverAt, entry.Span(r.RecoverIn))
		}
		out = append(out, word+readable(r.Recovery, known))
	}
	if r.Awaits != nil {
		out = append(out, "when it comes: "+readable(r.Awaits, known))
	}
	for i := range r.ClearWhens {
		out = append(out, "when "+r.ClearWhens[i].String())
	}
	if r.Eases() {
		for i := range r.Raises {
			if w := r.Raises[i].When; w != nil {
				out = append(out, "when no longer "+w.String())
			}
		}
	}
	if r.Age > 0 {
		s := "after " + entry.Span(r.Age) + " open"
		if open {
			s += ": at " + api.Clock(view.Since.Add(r.Age))
		}
		out = append(out, s)
	}
	if r.Quiet > 0 {
		s := "after " + entry.Span(r.Quiet) + " quiet"
		switch {
		case open && view.Quiet != entry.None:
			s += ": not before " + api.Clock(view.Quiet)
		case open && view.Blind:
			s += ": it is blind, so quiet stands still"
		case !open && len(changes) > 0:
			base := changes[0].At
			for _, h := range hits {
				if !h.Recovery {
					base = entry.Later(base, h.At)
				}
			}
			s += ": not before " + api.Clock(base.Add(r.Quiet))
		}
		out = append(out, s)
	}
	return append(out, "by hand")
}

var group = regexp.MustCompile(`\(\?<(\w+)>[^()]*\)`)

// readable writes an expression for the eye: a single pattern without its
// slashes, and its groups by their names alone.
func readable(x lang.Expr, known map[string]string) string {
	s := x.String()
	if m, ok := x.(*lang.Match); ok && m.Field == "" {
		s = m.Pattern.Source
	}
	return group.ReplaceAllStringFunc(s, func(g string) string {
		name := group.FindStringSubmatch(g)[1]
		if v, ok := known[name]; ok {
			return v
		}
		return "‹" + name + "›"
	})
}

// originDetail says why an origin cannot be seen.
func (s *Asker) originDetail(q api.DetailQuery, at entry.Instant) (*api.Detail, error) {
	d := &api.Detail{Origin: q.Origin}
	if o := s.Window.Now().Origin(q.Origin); o != nil {
		d.Host = o.Host
		d.Clears = []string{o.Words}
		if o.Mend != "" {
			d.Clears = append(d.Clears, "to mend it: "+o.Mend)
		}
		if o.Reached() != entry.None {
			d.Story = append(d.Story, api.Event{At: o.Reached(),
				Text: fmt.Sprintf("newest entry; %s read in all",
					english.Plural(int(o.Entries()), "entry", "entries"))})
		}
	}
	darks, err := s.Store.Darks(0, at)
	if err != nil {
		return nil, err
	}
	for _, x := range darks {
		if x.Origin == q.Origin {
			if x.Until != entry.None && x.Until <= at {
				d.Story = append(d.Story, api.Event{At: x.Until, Text: "seen again"})
			}
			d.Story = append(d.Story, api.Event{At: x.Since, Text: "blind: " + x.Words})
		}
	}
	sort.SliceStable(d.Story, func(i, j int) bool { return d.Story[i].At > d.Story[j].At })
	return d, nil
}

// toldStory adds who was told of an alert, or will be, or could not be.
func (s *Asker) toldStory(d *api.Detail, alert string, at entry.Instant) {
	if alert == "" {
		return
	}
	list, err := s.Store.ToldAbout(alert)
	if err != nil {
		return
	}
	for _, t := range list {
		e := api.Event{At: t.Made}
		way := s.wayOf(t.Contact, t.Way)
		tries := ""
		if t.Tries > 2 {
			tries = fmt.Sprintf(", after %d tries that failed", t.Tries-1)
		} else if t.Tries == 2 {
			tries = ", after one try that failed"
		}
		switch {
		case t.Made > at:
			continue
		case t.Dropped != "":
			e.Text, e.Why = t.Contact+" not told", t.Dropped
		case t.State == store.Told:
			e.At, e.Text = t.Told, t.Contact+" told"+way+" that it "+toldWord(t.Change)+tries
		case t.State == store.GivenUp:
			e.Text, e.Why = t.Contact+" could not be told"+way, t.Words
		case t.State == store.Waiting && t.Tries > 0:
			e.Text, e.Why = t.Contact+" could not be told"+way+" yet"+tries, t.Words
		default:
			e.Text = t.Contact + " will be told" + way
		}
		if e.At <= at {
			d.Story = append(d.Story, e)
		}
	}
	sort.SliceStable(d.Story, func(i, j int) bool { return d.Story[i].At > d.Story[j].At })
}

// wayOf says by which way a contact is told, where it has several.
func (s *Asker) wayOf(contact string, way int) string {
	c := s.Window.Now().Settings.Contact(contact)
	if c == nil {
		return ""
	}
	if names := c.WayNames(); len(names) > 1 && way < len(names) {
		return " by " + names[way]
	}
	return ""
}

func toldWord(change string) string {
	switch change {
	case engine.Raised:
		return "was raised"
	case engine.Repeated:
		return "is still open"
	case engine.Cleared:
		return "is over"
	case engine.Reopened:
		return "is open again"
	case "caught up":
		return "is open"
	}
	return change
}
