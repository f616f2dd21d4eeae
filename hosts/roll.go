package hosts

import (
	"cmp"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/folder"
)

// Settings are those of a centre as they are now.
type Settings struct {
	Lang  *lang.Settings
	Texts []folder.Text
	// Folder is where they stand, in which kits of one's own may lie.
	Folder string
	Secret []byte
}

// Rolled is a numbered state of the centre's settings, and to whom it went.
type Rolled struct {
	Number int64         `json:"number"`
	At     entry.Instant `json:"at"`
	By     string        `json:"by,omitempty"`
	Words  string        `json:"words,omitempty"` // what differs from the one before
	Back   int64         `json:"back,omitempty"`  // whose text it has; 0 where it is new
	To     []string      `json:"to"`              // all, "group NAME" or hosts' names, as it went out so far
	Texts  []folder.Text `json:"texts"`
	Stop   int           `json:"stop,omitempty"` // after so many refusals; 0 is never

	settings *lang.Settings
}

// parsed are the settings of the texts, as far as groups go.
func (r *Rolled) parsed() *lang.Settings {
	if r.settings == nil {
		r.settings, _ = folder.CheckErrors(r.Texts)
	}
	return r.settings
}

// rolled are the revisions that there are, by number.
type rolled struct {
	all []*Rolled
	// going is a rollout that goes on step by step.
	going *going
}

// going is what is left of a rollout.
type going struct {
	Number int64    `json:"number"`
	Left   []string `json:"left"` // identifiers of hosts that do not have it yet
	Gone   []string `json:"gone"` // those that do
	Halted string   `json:"halted,omitempty"`
}

// wave is how many hosts try a revision at once where it stops after refusals.
const wave = 20

func (r *rolled) read(values map[string][]byte) {
	for name, b := range values {
		if strings.HasPrefix(name, "revision/") {
			x := &Rolled{}
			if json.Unmarshal(b, x) == nil {
				r.all = append(r.all, x)
			}
		}
	}
	slices.SortFunc(r.all, func(a, b *Rolled) int { return cmp.Compare(a.Number, b.Number) })
	if b := values["rollout"]; b != nil {
		r.going = &going{}
		if json.Unmarshal(b, r.going) != nil {
			r.going = nil
		}
	}
}

func (r *rolled) get(n int64) *Rolled {
	i := slices.IndexFunc(r.all, func(x *Rolled) bool { return x.Number == n })
	if i < 0 {
		return nil
	}
	return r.all[i]
}

func (r *rolled) last() *Rolled {
	if len(r.all) == 0 {
		return nil
	}
	return r.all[len(r.all)-1]
}

// headFor is the newest revision that went to a whole group in which a host is; 0 is none.
func (r *rolled) headFor(name string, facts lang.Facts) int64 {
	for _, x := range slices.Backward(r.all) {
		in, _ := x.parsed().GroupsOf(name, facts)
		if slices.Contains(x.To, "all") || slices.ContainsFunc(in, func(g string) bool {
			return slices.Contains(x.To, "group "+g)
		}) {
			return x.Number
		}
	}
	return 0
}

// sendable are the texts of settings that hosts may need: those with groups and blocks that are sent, and the kits
// that groups use.
func sendable(s Settings) []folder.Text {
	var out []folder.Text
	used := map[string]bool{}
	for _, t := range s.Texts {
		if t.Kit != "" {
			continue
		}
		if !t.Table {
			for _, list := range lang.Parse(t.Name, []byte(t.Body)).Sends() {
				for _, u := range list {
					used[u.Kit] = true
				}
			}
		}
		if !t.Table {
			t.Name = filepath.Base(t.Name)
		}
		out = append(out, t)
	}
	for _, t := range s.Texts {
		if t.Kit != "" && used[t.Kit] {
			t.Name = path.Join("kits", t.Kit, filepath.Base(t.Name))
			out = append(out, t)
		}
	}
	return out
}

// Revision makes what one host runs of a state of the settings.
func (r *Rolled) revision(s *Status, secret []byte) (*Revision, error) {
	in, tags := r.parsed().GroupsOf(s.Name, s.State.facts())
	out := &Revision{Number: r.Number, For: s.ID, Name: s.Name, Made: r.At, By: r.By, Groups: in,
		Tags: map[string][]string{}, Tokens: secret}
	for n, v := range tags {
		if !slices.Contains([]string{"os", "version", "program"}, n) {
			out.Tags[n] = v
		}
	}
	for _, g := range in {
		out.Nothing = out.Nothing || r.parsed().Group(g).Nothing
	}
	var files []*lang.File
	for _, t := range r.Texts {
		if t.Kit == "" && !t.Table {
			files = append(files, lang.Parse(t.Name, []byte(t.Body)))
		}
	}
	uses := map[string]bool{}
	for _, x := range lang.Send(files, in) {
		out.Texts = append(out.Texts, folder.Text{Name: x.Name, Body: x.Body})
		for _, u := range lang.Parse(x.Name, []byte(x.Body)).Uses() {
			uses[u.Kit] = true
		}
	}
	for _, t := range r.Texts {
		named := func() bool {
			return slices.ContainsFunc(out.Texts, func(x folder.Text) bool {
				return x.Kit == "" && strings.Contains(x.Body, lang.Quote(t.Name))
			})
		}
		if t.Kit != "" && uses[t.Kit] || t.Table && named() {
			out.Texts = append(out.Texts, t)
		}
	}
	return out, nil
}

// Check says what is wrong with the settings of each set of groups in which a host is, as hosts would run them.
func (c *Centre) Check(s Settings) []lang.Diagnostic {
	next := &Rolled{Texts: sendable(s)}
	seen := map[string]bool{}
	var out []lang.Diagnostic
	for _, h := range c.Statuses() {
		r, err := next.revision(&h, nil)
		if err != nil || seen[strings.Join(r.Groups, " ")] {
			continue
		}
		seen[strings.Join(r.Groups, " ")] = true
		_, ds := folder.CheckErrors(r.Texts)
		for _, d := range ds {
			if d.Weight == lang.Err && !slices.ContainsFunc(out, func(x lang.Diagnostic) bool {
				return x.Pos == d.Pos && x.What == d.What
			}) {
				out = append(out, d)
			}
		}
	}
	return out
}

// RollQuery is what is to be rolled out, and to whom.
type RollQuery struct {
	To   []string // "all", "group NAME", or names of hosts
	Stop int      // after so many refusals; 0 is never
	Back int64    // the number whose text is taken; 0 is the settings as they are now
	By   string
}

// RollDone is what a rollout does.
type RollDone struct {
	Number int64
	Hosts  []string // that get it
	Words  string   // what differs from the revision before
	Same   bool     // nothing differs: the last revision goes to more hosts
}

// Roll makes a revision, or takes the last one where nothing differs, and lets hosts have it. Nothing is done
// where do is false.
func (c *Centre) Roll(q RollQuery, do bool) (*RollDone, error) {
	s := c.o.Settle()
	if len(q.To) == 0 {
		return nil, errors.New("it does not say to whom: --to all, --to group NAME or --to HOST")
	}
	texts := sendable(s)
	c.mu.Lock()
	defer c.mu.Unlock()
	last := c.rolled.last()
	if q.Back != 0 {
		old := c.rolled.get(q.Back)
		if old == nil {
			return nil, fmt.Errorf("there is no revision %d", q.Back)
		}
		texts = old.Texts
	}
	r := &Rolled{Number: 1, At: entry.Of(c.o.Now()), By: q.By, Texts: texts, Back: q.Back, Stop: q.Stop}
	done := &RollDone{}
	if last != nil {
		r.Number = last.Number + 1
		done.Words = differs(last.Texts, texts)
		if folder.Same(last.Texts, texts) && q.Back == 0 {
			r, done.Same = last, true
			r.Stop = q.Stop
		}
	} else {
		done.Words = differs(nil, texts)
	}
	if len(r.parsed().Groups) == 0 {
		return nil,
			errors.New("the settings have no group, so no host gets anything: write group NAME { hosts \"*\" … }")
	}
	var ids []string
	for _, to := range q.To {
		found, err := c.meant(r, to)
		if err != nil {
			return nil, err
		}
		for _, id := range found {
			if !slices.Contains(ids, id) {
				ids = append(ids, id)
			}
		}
	}
	slices.SortFunc(ids, func(a, b string) int { return strings.Compare(c.hosts[a].Name, c.hosts[b].Name) })
	done.Number = r.Number
	for _, id := range ids {
		done.Hosts = append(done.Hosts, c.hosts[id].Name)
		v, err := r.revision(c.hosts[id], nil)
		if err != nil {
			return nil, err
		}
		_, ds := folder.CheckErrors(v.Texts)
		for _, d := range ds {
			if d.Weight == lang.Err {
				return nil, fmt.Errorf("%s, as %s would run it: %s; %s", d.Pos, c.hosts[id].Name, d.What, d.Mend)
			}
		}
	}
	if !do {
		return done, nil
	}
	r.Words = done.Words
	for _, to := range q.To {
		if !slices.Contains(r.To, to) {
			r.To = append(r.To, to)
		}
	}
	if !done.Same {
		c.rolled.all = append(c.rolled.all, r)
	}
	keep := map[string][]byte{}
	keep[fmt.Sprintf("revision/%d", r.Number)], _ = json.Marshal(r)
	c.rolled.going = &going{Number: r.Number, Left: ids}
	c.goOn(keep)
	c.mu.Unlock()
	err := c.o.Office.Keep(c.ctx, keep)
	c.mu.Lock()
	return done, err
}

// meant are the hosts that a word means.
func (c *Centre) meant(r *Rolled, to string) ([]string, error) {
	group, of := strings.CutPrefix(to, "group ")
	switch {
	case to == "all":
	case of:
		if r.parsed().Group(group) == nil {
			return nil, fmt.Errorf("there is no group %q", group)
		}
	default:
		h, err := c.find(to)
		if err != nil {
			return nil, err
		}
		return []string{h.ID}, nil
	}
	var out []string
	for id, h := range c.hosts {
		in, _ := r.parsed().GroupsOf(h.Name, h.State.facts())
		if to == "all" || slices.Contains(in, group) {
			out = append(out, id)
		}
	}
	return out, nil
}

// progress lets a rollout go on.
func (c *Centre) progress() {
	keep := map[string][]byte{}
	c.mu.Lock()
	c.goOn(keep)
	c.mu.Unlock()
	if len(keep) > 0 {
		c.o.Office.Keep(c.ctx, keep)
		c.o.Changed()
	}
}

// goOn hands a revision to the next hosts, and halts where too many refuse it; keep gets what is to be kept.
func (c *Centre) goOn(keep map[string][]byte) {
	g := c.rolled.going
	if g == nil || g.Halted != "" || len(g.Left) == 0 {
		return
	}
	r := c.rolled.get(g.Number)
	if r == nil {
		c.rolled.going = nil
		return
	}
	open, refused := 0, 0
	var why string
	for _, id := range g.Gone {
		h := c.hosts[id]
		switch {
		case h == nil || h.State.Runs.Number == g.Number:
		case h.State.Runs.Refuses != nil && h.State.Runs.Refuses.Number == g.Number:
			refused++
			why = h.Name + " says: " + h.State.Runs.Refuses.Error()
		case !h.Silent && !h.State.Bye:
			open++
		}
	}
	if r.Stop > 0 && refused >= r.Stop {
		g.Halted = fmt.Sprintf("revision %d stopped after %d refusals, %d hosts do not get it: %s", g.Number, refused,
			len(g.Left), why)
		keep["rollout"], _ = json.Marshal(g)
		go c.o.Office.Told(g.Halted)
		return
	}
	n := len(g.Left)
	if r.Stop > 0 {
		n = min(n, max(0, min(wave, r.Stop-refused)-open))
	}
	if n == 0 {
		return
	}
	for _, id := range g.Left[:n] {
		if h := c.hosts[id]; h != nil {
			h.Head = g.Number
			keep["host/"+id], _ = json.Marshal(h.Host)
			c.wake(id)
		}
	}
	g.Gone, g.Left = append(g.Gone, g.Left[:n]...), g.Left[n:]
	keep["rollout"], _ = json.Marshal(g)
}

// Revisions are all that were rolled out, the newest first, and how the last rollout halted; "" where it did not.
func (c *Centre) Revisions() ([]Rolled, string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	var out []Rolled
	for _, r := range slices.Backward(c.rolled.all) {
		x := *r
		x.To = slices.Clone(r.To)
		out = append(out, x)
	}
	halted := ""
	if g := c.rolled.going; g != nil {
		halted = g.Halted
	}
	return out, halted
}

// revisionOf is the revision that is for a host, sealed.
func (c *Centre) revisionOf(id string) ([]byte, error) {
	s := c.o.Settle()
	c.mu.Lock()
	defer c.mu.Unlock()
	h := c.hosts[id]
	if h == nil {
		return nil, errors.New("this host is not joined any more")
	}
	r := c.rolled.get(h.Head)
	if r == nil {
		return nil, errors.New("no revision is for this host yet")
	}
	v, err := r.revision(h, tokensOf(s.Secret))
	if err != nil {
		return nil, err
	}
	return v.seal(c.own.sign)
}

// Effective is what a host would run of the settings as they are now.
func (c *Centre) Effective(name string) (*Revision, error) {
	next := &Rolled{Texts: sendable(c.o.Settle())}
	c.mu.Lock()
	defer c.mu.Unlock()
	h, err := c.find(name)
	if err != nil {
		return nil, err
	}
	return next.revision(h, nil)
}

// RevisionFor is what a host gets of a revision.
func (c *Centre) RevisionFor(name string, number int64) (*Revision, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	h, err := c.find(name)
	if err != nil {
		return nil, err
	}
	r := c.rolled.get(number)
	if r == nil {
		return nil, fmt.Errorf("there is no revision %d", number)
	}
	return r.revision(h, nil)
}

// differs says which blocks differ between texts.
func differs(was, now []folder.Text) string {
	a, _ := folder.Parts(was)
	b, order := folder.Parts(now)
	var added, changed, gone []string
	for _, id := range order {
		switch old, there := a[id]; {
		case !there:
			added = append(added, id)
		case old != b[id]:
			changed = append(changed, id)
		}
	}
	for id := range a {
		if _, there := b[id]; !there {
			gone = append(gone, id)
		}
	}
	slices.Sort(gone)
	var out []string
	for _, x := range []struct {
		what string
		list []string
	}{{"new", added}, {"changed", changed}, {"gone", gone}} {
		if n := len(x.list); n > 6 {
			out = append(out, fmt.Sprintf("%d %s", n, x.what))
		} else if n > 0 {
			out = append(out, x.what+": "+strings.Join(x.list, ", "))
		}
	}
	return strings.Join(out, "; ")
}

// Standing is the newest revision, how the last rollout halted, and what differs between the settings and the
// newest revision.
func (c *Centre) Standing() (newest int64, halted, pending string) {
	s := c.o.Settle()
	c.mu.Lock()
	defer c.mu.Unlock()
	if g := c.rolled.going; g != nil {
		halted = g.Halted
	}
	last := c.rolled.last()
	if last == nil {
		return 0, halted, ""
	}
	if !slices.Equal(c.standsOf, s.Texts) {
		c.standsOf, c.stands = s.Texts, ""
		c.standsFor = 0
	}
	if c.standsFor != last.Number {
		c.standsFor, c.stands = last.Number, differs(last.Texts, sendable(s))
	}
	return last.Number, halted, c.stands
}

// tokensOf is the key by which all hosts make stand-ins for masked values, which tells nothing of the centre's own.
func tokensOf(secret []byte) []byte {
	h := hmac.New(sha256.New, secret)
	h.Write([]byte("tokens of hosts"))
	return h.Sum(nil)
}
