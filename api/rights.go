package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"
)

// Right is what somebody may do; each includes those before it.
type Right int

// The rights.
const (
	NoRight Right = iota
	Look          // everything, masked
	Handle        // take, hush, note and clear as well
	Change        // write settings, roll them out, invite hosts as well
)

func (r Right) String() string {
	return [...]string{"nothing", "look", "handle", "change"}[min(max(r, 0), Change)]
}

// RightOf is a right by its word in settings.
func RightOf(word string) Right {
	for r := Look; r <= Change; r++ {
		if r.String() == word {
			return r
		}
	}
	return NoRight
}

// Rights are what somebody may do: to all, and to groups of hosts besides.
type Rights struct {
	Name  string
	All   Right
	Group map[string]Right
}

// Most is the greatest right that they have, wherever.
func (r Rights) Most() Right {
	most := r.All
	for _, x := range r.Group {
		most = max(most, x)
	}
	return most
}

// On is the right to what concerns a host that is in these groups.
func (r Rights) On(groups []string) Right {
	most := r.All
	for _, g := range groups {
		most = max(most, r.Group[g])
	}
	return most
}

type rightsKey struct{}

// WithRights is a context in which somebody asks.
func WithRights(ctx context.Context, r Rights) context.Context {
	return context.WithValue(ctx, rightsKey{}, r)
}

// RightsOf are those of who asks; who asks in the same process, and who runs the service, may do everything.
func RightsOf(ctx context.Context) Rights {
	if r, ok := ctx.Value(rightsKey{}).(Rights); ok {
		return r
	}
	return Rights{All: Change}
}

// needs are the endpoints for which it does not suffice to look.
var needs = map[string]Right{}

// partly are the endpoints that a right to a group of hosts may suffice for: who answers looks at that.
var partly []string

// need says which right an endpoint needs.
func need(r Right, paths ...string) {
	for _, p := range paths {
		needs[p] = r
	}
}

func init() {
	need(Handle, DoAct.path, DoClear.path, DoReport.path, DoTest.path)
	need(Change, DoPut.path, DoApply.path, DoBring.path, DoBegin.path, DoFields.path, WriteText.path, DoInvite.path,
		DoHost.path, DoRoll.path)
	partly = []string{DoAct.path, DoClear.path, DoRoll.path}
}

// allowed is a problem where who asks may not ask that.
func allowed(ctx context.Context, path string) *Problem {
	r := RightsOf(ctx)
	have, want := r.All, max(needs[path], Look)
	if slices.Contains(partly, path) {
		have = r.Most()
	}
	if have < want {
		return Forbidden(r, want)
	}
	return nil
}

// Forbidden is the problem that somebody may not do something.
func Forbidden(r Rights, want Right) *Problem {
	who := r.Name
	if who == "" {
		who = "who asks"
	}
	what := fmt.Sprintf("%s may %s here; that needs the right to %s", who, r.Most(), want)
	return &Problem{Code: Refused, What: what,
		Mend: fmt.Sprintf("whoever runs the service gives it: settings { people \"GROUP OF THE SYSTEM\" %s }", want)}
}

// personal is a question in which it stands who asks.
type personal interface{ is(name string) }

// is puts the name of who asks in the place of what was said.
func (p *Person) is(name string) { p.By = name }

// asker lets a question of somebody who was let in by name be theirs.
func asker(r *http.Request, q any) {
	if rights := RightsOf(r.Context()); rights.Name != "" {
		if p, ok := q.(personal); ok {
			p.is(rights.Name)
		}
	}
}
