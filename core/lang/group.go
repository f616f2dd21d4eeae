package lang

import (
	"fmt"
	"path"
	"slices"
	"strings"
)

// Group is a group of joined hosts: which belong to it, and what they run.
type Group struct {
	Pos    Pos
	Name   string
	Hosts  []string // patterns of names, of which any fits; with * and ?
	Except []string // patterns of names that are left out
	Where  Expr     // over the facts of a host; nil where it goes by name alone
	Uses   []Use    // its kits
	Tags   []Tag    // what its hosts are given
	// Nothing tells that what is written on a host is ignored; else it is added under other names.
	Nothing bool
	About   []string
	Note    string
	Off     bool

	local token // where that is said
}

// Tag is a fact that the centre gives a host.
type Tag struct{ Name, Value string }

// Facts are what is known of a host besides its name: os, version, program, and the tags of its groups. A
// fact may have several values.
type Facts map[string][]string

// hostFacts are the facts that hosts have by themselves.
var hostFacts = []string{"name", "os", "version", "program"}

// Fits tells whether a host of that name and with those facts is in the group.
func (g *Group) Fits(name string, facts Facts) bool {
	fits := func(list []string) bool {
		return slices.ContainsFunc(list, func(p string) bool { ok, _ := path.Match(p, name); return ok })
	}
	switch {
	case g.Off, fits(g.Except):
		return false
	case len(g.Hosts) > 0 && !fits(g.Hosts):
		return false
	case g.Where != nil:
		return facts.hold(g.Where, name)
	}
	return len(g.Hosts) > 0
}

// Groups are the names of those groups of the settings that a host is in, in their order, and its facts with
// the tags that they give it. Facts must not be changed afterwards.
func (s *Settings) GroupsOf(name string, facts Facts) ([]string, Facts) {
	all := Facts{}
	for n, v := range facts {
		all[n] = v
	}
	in := map[string]bool{}
	for changed := true; changed; { // a tag of one group may bring the host into another; there is no circle
		changed = false
		for _, g := range s.Groups {
			if in[g.Name] || !g.Fits(name, all) {
				continue
			}
			in[g.Name], changed = true, true
			for _, t := range g.Tags {
				all[t.Name] = append(slices.Clone(all[t.Name]), t.Value)
			}
		}
	}
	var out []string
	for _, g := range s.Groups {
		if in[g.Name] {
			out = append(out, g.Name)
		}
	}
	return out, all
}

// Group returns the group of that name, or nil.
func (s *Settings) Group(name string) *Group {
	for _, g := range s.Groups {
		if g.Name == name {
			return g
		}
	}
	return nil
}

// hold tells whether an expression holds for a host. Of a fact with several values any suffices; no
// comparison holds for a lacking one.
func (f Facts) hold(x Expr, name string) bool {
	values := func(field string) []string {
		if field == "name" {
			return []string{name}
		}
		return f[field]
	}
	anyOf := func(field string, is func(string) bool) bool { return slices.ContainsFunc(values(field), is) }
	switch x := x.(type) {
	case *And:
		return !slices.ContainsFunc(x.Of, func(e Expr) bool { return !f.hold(e, name) })
	case *Or:
		return slices.ContainsFunc(x.Of, func(e Expr) bool { return f.hold(e, name) })
	case *Not:
		return !f.hold(x.Of, name)
	case *Match:
		return len(values(x.Field)) > 0 && anyOf(x.Field, x.Pattern.Re().MatchString) != x.Neg
	case *Compare:
		has := anyOf(x.Field, func(v string) bool { return v == x.Value.Text || v == x.Value.Src })
		if x.Op == "!=" {
			return len(values(x.Field)) > 0 && !has
		}
		return has
	case *In:
		return anyOf(x.Field, func(v string) bool {
			return slices.ContainsFunc(x.Values, func(w Value) bool { return v == w.Text || v == w.Src })
		})
	case *Has:
		return len(values(x.Field)) > 0 != x.Lacks
	}
	return false
}

const groupMend = `write: hosts "pump-*" except "pump-09", or: hosts where os == "linux"`

func readGroupHosts(c *cursor, node any) {
	g := node.(*Group)
	if c.accept("where") {
		x := c.whole()
		if c.failed {
			return
		}
		Walk(x, func(part Expr, _ bool) {
			bad := ""
			switch e := part.(type) {
			case *Compare:
				if e.Op != "==" && e.Op != "!=" {
					bad = e.Op + " says nothing about a fact, which is a text"
				}
			case *Match:
				if e.Field == "" {
					bad = "a pattern needs a fact to look at"
				}
			case *Phrase:
				bad = "a phrase needs a fact to look at"
			case *Is:
				bad = "a kind is of entries, not of hosts"
			}
			if bad != "" {
				c.fail(c.toks[0], "wrong-kind", bad, `compare a fact: name == "pump-3", or name ~ /^pump-/`)
			}
		})
		if c.failed {
			return
		}
		if g.Where != nil {
			x = &Or{[]Expr{g.Where, x}}
		}
		g.Where = x
		return
	}
	list := func() (out []string) {
		for {
			t := c.peek()
			p := c.text("a pattern of hosts' names")
			if _, err := path.Match(p, ""); err != nil && !c.failed {
				c.fail(t, "bad-pattern", fmt.Sprintf("%s is no pattern of names: %v", visible(t.src), err), groupMend)
			}
			out = append(out, p)
			if !c.accept(",") {
				return out
			}
		}
	}
	g.Hosts = append(g.Hosts, list()...)
	if c.accept("except") {
		g.Except = append(g.Except, list()...)
	}
	c.done(groupMend)
}

func readGroupKit(c *cursor, node any) {
	g := node.(*Group)
	if u := c.useOf(); u.Kit != "" {
		if slices.ContainsFunc(g.Uses, func(x Use) bool { return x.Kit == u.Kit }) {
			c.fail(u.kit, "twice", fmt.Sprintf("the group uses the kit %s twice", u.Kit),
				"put what it is used with into one clause")
			return
		}
		g.Uses = append(g.Uses, u)
	}
}

func readGroupTag(c *cursor, node any) {
	g := node.(*Group)
	t := c.peek()
	n := c.fieldName("the name of the tag")
	v := c.text("its value")
	if contains(hostFacts, n) {
		c.fail(t, "bad-name", fmt.Sprintf("%s is what a host says of itself, and no tag", n),
			"give the tag another name")
	}
	if c.done(`write: tag site "north"`); !c.failed {
		g.Tags = append(g.Tags, Tag{n, v})
	}
}

func readGroupLocal(c *cursor, node any) {
	g := node.(*Group)
	g.local = c.toks[0]
	g.Nothing = c.oneOf("adds or nothing", "adds", "nothing") == "nothing"
	c.done("write: local adds, or local nothing")
}

// readFor reads `for GROUP, …`, which sends a block to the hosts of groups.
func readFor(c *cursor, node any) {
	names := c.names("a group's name")
	if c.failed {
		return
	}
	switch n := node.(type) {
	case *Source:
		n.For = append(n.For, names...)
	case *Layout:
		n.For = append(n.For, names...)
	case *Rule:
		n.For = append(n.For, names...)
	case *Kind:
		n.For = append(n.For, names...)
	case *Deliver:
		n.For = append(n.For, names...)
	case *Question:
		n.For = append(n.For, names...)
	case *Report:
		n.For = append(n.For, names...)
	case *Measure:
		n.For = append(n.For, names...)
	}
}

// readAtCentre reads `at centre` of a rule.
func readAtCentre(c *cursor, node any) {
	if !c.accept("centre") {
		c.expected(c.peek(), "centre",
			"write: at centre; a threshold stands behind its severity: raise error at 3 in 5m")
	}
	c.done("write: at centre")
	node.(*Rule).AtCentre = true
}

func readPeople(c *cursor, node any) {
	h := &node.(*Settings).Hosts
	const mend = `write: people "ops" look, "duty" handle, "lead" change; or: people "locks-crew" handle for locks`
	for {
		p := People{Group: c.text("a group of the system"), Right: c.oneOf("look, handle or change", Rights...)}
		if c.accept("for") {
			for {
				t := c.next()
				if t.kind != name {
					c.expected(t, "a group's name", mend)
				}
				p.For = append(p.For, t.src)
				if c.peek().kind == text || !c.accept(",") {
					break
				}
				if c.peek().kind == text {
					c.i--
					break
				}
			}
		}
		if c.failed {
			return
		}
		h.People = append(h.People, p)
		if !c.accept(",") {
			break
		}
	}
	c.done(mend)
}

// groups checks what is said of groups once all are known.
func (k *checker) groups() {
	s := k.settings
	known := k.names["group"]
	wanted := func(f *File, b *block, list []string) {
		for _, n := range list {
			if !contains(known, n) {
				k.clause(f, b, "for", n, Err, "unknown-name", fmt.Sprintf("there is no group %q", n), meant(n, known))
			}
		}
	}
	each := func(node any, at Pos, kind string, list []string) {
		if f := k.file[node]; f != nil && len(list) > 0 {
			if b := k.index(f).at[at]; b != nil {
				wanted(f, b, list)
			}
		}
	}
	for _, x := range s.Sources {
		each(x, x.Pos, "source", x.For)
	}
	for _, x := range s.Layouts {
		each(x, x.Pos, "layout", x.For)
	}
	for _, x := range s.Rules {
		each(x, x.Pos, "rule", x.For)
	}
	for _, x := range s.Kinds {
		each(x, x.Pos, "kind", x.For)
	}
	for _, x := range s.Delivers {
		each(x, x.Pos, "deliver", x.For)
	}
	for _, x := range s.Asks {
		each(x, x.Pos, "ask", x.For)
	}
	for _, x := range s.Reports {
		each(x, x.Pos, "report", x.For)
	}
	for _, x := range s.Counts {
		each(x, x.Pos, "measure", x.For)
	}
	for _, r := range s.Rules {
		k.keysAtCentre(r)
	}
	k.tagCircles()
}

// keysAtCentre refuses a key of a rule that joins hosts of which a mask leaves nothing that agrees between them.
func (k *checker) keysAtCentre(r *Rule) {
	f := k.file[r]
	if f == nil || !r.AtCentre {
		return
	}
	for _, n := range r.On {
		src := k.settings.Source(n)
		if src == nil {
			continue
		}
		l := k.settings.Layout(src.LayoutName())
		if l == nil {
			continue
		}
		for i := range l.Masks {
			if m := &l.Masks[i]; m.Pattern == nil && !m.Token && contains(r.Per, m.Field) {
				k.at(f, r, "rule", "per", m.Field, Err, "masked-at-centre",
					fmt.Sprintf("%s is masked in the layout %s, so it agrees on no two hosts", m.Field, l.Name),
					"write in the layout: mask "+m.Field+" as token, which is the same on all hosts")
			}
		}
	}
}

// tagCircles tells of groups whose tags decide over themselves.
func (k *checker) tagCircles() {
	s := k.settings
	gives := map[string][]*Group{} // tag → the groups that give it
	for _, g := range s.Groups {
		for _, t := range g.Tags {
			gives[t.Name] = append(gives[t.Name], g)
		}
	}
	state := map[*Group]int{}
	var visit func(g *Group) bool
	visit = func(g *Group) bool {
		switch state[g] {
		case 1:
			return true
		case 2:
			return false
		}
		state[g] = 1
		circle := false
		Walk(g.Where, func(part Expr, _ bool) {
			for _, f := range fieldsOf(part) {
				for _, of := range gives[f] {
					circle = circle || visit(of)
				}
				if !contains(hostFacts, f) && gives[f] == nil {
					k.tell(k.file[g], Err, "unknown-name", part.Place(), len(f),
						fmt.Sprintf("hosts have no fact %q", f),
						"there are name, os, version and program, and the tags that groups give")
				}
			}
		})
		state[g] = 2
		return circle
	}
	for _, g := range s.Groups {
		if visit(g) {
			k.tell(k.file[g], Err, "circle", g.Pos, len(g.Name),
				fmt.Sprintf("who is in the group %s depends on a tag that depends on the group", g.Name),
				"go by names or facts in one of them")
			return
		}
	}
}

func fieldsOf(x Expr) []string {
	switch e := x.(type) {
	case *Match:
		return []string{e.Field}
	case *Compare:
		return []string{e.Field}
	case *In:
		return []string{e.Field}
	case *Has:
		return []string{e.Field}
	}
	return nil
}

// apart puts what is sent to hosts beside what is judged here.
func (k *checker) apart() {
	s := k.settings
	groupsOf := func(at Pos, list []string) ([]string, bool) {
		if kit := s.kitFiles[at.File]; kit != "" && k.joined.sent[kit] != nil {
			return k.joined.sent[kit], !k.joined.here[kit]
		}
		return list, len(list) > 0
	}
	for _, x := range s.Sources {
		var gone bool
		if x.For, gone = groupsOf(x.Pos, x.For); gone {
			s.SentSources = append(s.SentSources, x)
		}
	}
	s.Sources = slices.DeleteFunc(s.Sources, func(x *Source) bool { return slices.Contains(s.SentSources, x) })
	for _, x := range s.Rules {
		var gone bool
		if x.For, gone = groupsOf(x.Pos, x.For); len(x.From) > 0 && gone {
			x.AtCentre = true // who awaits hosts is judged where all are seen
		}
		if x.AtCentre && len(x.For) == 0 {
			for _, n := range x.On {
				if src := s.Source(n); src != nil {
					for _, g := range src.For {
						if !contains(x.For, g) {
							x.For = append(x.For, g)
						}
					}
				}
			}
		}
		if gone && !x.AtCentre {
			s.SentRules = append(s.SentRules, x)
		}
	}
	s.Rules = slices.DeleteFunc(s.Rules, func(x *Rule) bool { return slices.Contains(s.SentRules, x) })
	for _, x := range s.Delivers {
		if len(x.For) > 0 {
			s.SentDelivers = append(s.SentDelivers, x)
		}
	}
	s.Delivers = slices.DeleteFunc(s.Delivers, func(x *Deliver) bool { return slices.Contains(s.SentDelivers, x) })
}

// whereItRuns notes where a rule is judged that is sent to hosts.
func (k *checker) whereItRuns(r *Rule) {
	f, s := k.file[r], k.settings
	if f == nil || f.kit != "" {
		return
	}
	groups := r.For
	if len(groups) == 0 && r.AtCentre {
		for _, n := range r.On {
			if src := s.Source(n); src != nil {
				groups = append(groups, src.For...)
			}
		}
	}
	of := strings.Join(groups, ", ")
	switch {
	case r.AtCentre || len(r.From) > 0 && len(r.For) > 0:
		word, why := "at", "it says at centre"
		if !r.AtCentre {
			word, why = "for", "it awaits hosts by their names"
		}
		if len(groups) == 0 {
			k.at(f, r, "rule", word, "", Note, "runs-at-centre",
				fmt.Sprintf("%s is judged here, and no host hands anything on for it: its "+
					"sources are sent to no group", r.Name), "write for GROUP in its sources, or take at centre out")
			return
		}
		k.at(f, r, "rule", word, "", Note, "runs-at-centre",
			fmt.Sprintf("%s is judged at the centre, since %s: the hosts of %s find what is "+
				"something for it, and hand that on with how far they have read", r.Name, why, of),
			"without at centre each host judges it by itself, and nothing is moved")
	case len(groups) > 0:
		k.at(f, r, "rule", "for", "", Note, "runs-on-hosts", fmt.Sprintf("%s is judged on each host of %s by itself",
			r.Name, of),
			"at centre joins what several hosts say")
		if !contains(r.Per, "host") && !strings.Contains(r.Say, "{host}") && r.Say != "" {
			k.at(f, r, "rule", "say", "", Note, "says-no-host",
				fmt.Sprintf("the words of %s do not say which host it is about", r.Name),
				"the alert has it as its reporter; {host} in say, and per host, put it into the words")
		}
	}
}
