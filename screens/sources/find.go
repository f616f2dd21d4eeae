package sources

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/screens/paint"
	"dimlantern/screens/room"

	tea "charm.land/bubbletea/v2"
	"github.com/dustin/go-humanize"
)

// mostFound is how many entries are found before it is enough.
const mostFound = 2000

// search is a look for entries, which goes on until all is looked through, enough is found, or
// it is left.
type search struct {
	text, where string
	source      string
	at          entry.Instant // where the lamp stood; 0 is now
	found       []api.FoundEntry
	expr        bool
	place       *api.FindPlace // where it goes on; nil: it is at its end
	of, left    int64          // bytes
	looked      int64          // entries
	until       entry.Instant  // what is not yet found is no newer
	unread      []string
	err         error
	asking      bool
	stop        context.CancelFunc
}

// wheres are where entries can be looked for, in the order in which tab goes through them.
var wheres = []string{api.InOrigin, api.InSource, api.InAll}

// Scope is part of room.Scoped.
func (r *Room) Scope() string {
	s, o := r.Chosen()
	switch {
	case !r.inside:
		return "finding origins"
	case r.where == api.InAll || o == nil:
		return "finding in all entries"
	case r.where == api.InSource:
		return "finding in entries of " + s.Name
	}
	return "finding in " + label(s, o)
}

// Widen is part of room.Scoped: from the origins to the entries of the chosen one, then to
// those of its source, then to all.
func (r *Room) Widen() tea.Cmd {
	switch i := slices.Index(wheres, r.where); {
	case !r.inside:
		r.inside, r.where, r.misfits = true, api.InOrigin, false
		r.take()
	default:
		r.where = wheres[(i+1)%len(wheres)]
	}
	return r.Find(r.filter)
}

// operators can stand behind a field.
var operators = []string{"== ", "!= ", ">= ", "<= ", "> ", "< ", "~ /", "!~ /", "in ("}

// Offers is part of room.Scoped: with what an expression can go on that is typed, by the fields
// of the chosen origin and the values that its entries here have.
func (r *Room) Offers(typed string) []string {
	if !r.inside || r.entries == nil || strings.TrimSpace(typed) == "" {
		return nil
	}
	at := strings.LastIndexAny(typed, " (") + 1
	head, last := typed[:at], typed[at:]
	before := strings.Fields(head)
	known := append([]string{"text", "level", "host", "source", "fits"}, r.entries.Fields...)
	field := func(back int) string { // the field that is so many words back
		if n := len(before) - back; n >= 0 && slices.Contains(known, strings.TrimLeft(before[n], "(")) {
			return strings.TrimLeft(before[n], "(")
		}
		return ""
	}
	var words []string
	switch {
	case len(before) > 0 && slices.Contains(operators, before[len(before)-1]+" "):
		words = r.valuesOf(field(2))
	case field(1) != "" && (len(before) < 2 || !slices.Contains([]string{"has", "lacks"}, before[len(before)-2])):
		words = operators
	case len(before) > 2 && slices.Contains(operators, before[len(before)-2]+" "):
		words = []string{"and ", "or "}
	default:
		words = append(known, "not ", "has ", "lacks ")
	}
	var out []string
	for _, w := range words {
		if strings.HasPrefix(w, last) && w != last && !slices.Contains(out, head+w) {
			out = append(out, head+w)
		}
	}
	return out
}

// valuesOf are the values that a field has in the entries that are here, as expressions have
// them, the newest first.
func (r *Room) valuesOf(field string) []string {
	var out []string
	for _, e := range r.entries.Lines {
		for _, f := range e.Fields {
			if f.Name != field || f.Value == "" {
				continue
			}
			v := f.Value
			if _, number := entry.ParseNumber(v); !number && entry.Level(v) == 0 {
				v = lang.Quote(v)
			} else if !number {
				v = strings.ToLower(v)
			}
			if !slices.Contains(out, v) {
				out = append(out, v)
			}
		}
	}
	return out
}

// seek looks for what the filter says.
func (r *Room) seek() tea.Cmd {
	s, o := r.Chosen()
	r.endSearch()
	if o == nil || strings.TrimSpace(r.filter) == "" {
		return r.askEntries()
	}
	r.search = &search{text: r.filter, where: cmp.Or(r.where, api.InOrigin), source: s.Name, at: r.stage.Held,
		until: entry.None}
	return r.goOn(r.search, api.FindQuery{Text: r.filter, Where: r.search.where, Origin: o.Name, Source: s.Name,
		At: r.stage.Held, Lines: mostFound})
}

// endSearch ends the search that there is.
func (r *Room) endSearch() {
	if r.search != nil && r.search.stop != nil {
		r.search.stop()
	}
	r.search = nil
}

// goOn asks for what comes next of a search.
func (r *Room) goOn(x *search, q api.FindQuery) tea.Cmd {
	ctx, stop := context.WithCancel(context.Background())
	x.stop, x.asking = stop, true
	return room.AskContext(ctx, r.stage, api.AskFind, q, 10*room.Patience, func(f *api.Found, err error) tea.Cmd {
		stop()
		x.asking = false
		if r.search != x {
			return nil
		}
		if x.err = err; err != nil {
			x.place = nil
			return nil
		}
		x.take(f)
		if x.place == nil || len(x.found) >= mostFound {
			return nil
		}
		q.Go = x.place
		return r.goOn(x, q)
	})
}

// take takes an answer in.
func (x *search) take(f *api.Found) {
	x.found = append(x.found, f.Lines...)
	slices.SortStableFunc(x.found, func(a, b api.FoundEntry) int { return cmp.Compare(b.At, a.At) })
	x.found = x.found[:min(len(x.found), mostFound)]
	x.expr, x.place, x.left, x.until = f.Expr, f.Go, f.Left, f.Until
	x.looked += f.Looked
	x.unread = append(x.unread, f.Unread...)
	if f.Go != nil {
		x.of = f.Go.Of
	}
}

// listed are the entries that are listed: those that were found, or the newest of the origin;
// nil before they have come.
func (r *Room) listed() *api.Entries {
	x := r.search
	if x == nil {
		return r.entries
	}
	out := &api.Entries{Origin: r.chosen, Words: x.none()}
	for i := range x.found {
		out.Lines = append(out.Lines, x.found[i].EntryView)
	}
	return out
}

// none says why nothing is listed.
func (x *search) none() string {
	switch {
	case x.err != nil:
		return x.err.Error()
	case x.asking:
		return "looking"
	}
	return "no entry has it"
}

// origins says of what each entry is, where they are not all of one origin; nil where they are.
func (x *search) origins() func(int) string {
	if x == nil || x.where == api.InOrigin {
		return nil
	}
	return func(i int) string {
		if i >= len(x.found) {
			return ""
		}
		_, path, _ := strings.Cut(x.found[i].Origin, ":")
		name := path[strings.LastIndexByte(path, '/')+1:]
		if x.where == api.InAll && !strings.HasPrefix(name, x.found[i].Source) {
			name = x.found[i].Source + " " + name
		}
		return name
	}
}

// drawHead says what was found, and how far was looked.
func (x *search) drawHead(c *paint.Canvas, at, y int, source string, p paint.Palette, base paint.Style) {
	dim := base.With(p.Dim)
	switch x.where {
	case api.InSource:
		at = c.Put(at, y, base.With(p.Strong).Strong(), source)
	case api.InAll:
		at = c.Put(at, y, base.With(p.Strong).Strong(), "everything")
	}
	what := "with the words"
	if x.expr {
		what = "where"
	}
	words := fmt.Sprintf("%s %s", room.Count(len(x.found), "entry"), what)
	at = c.Put(at+3, y, dim, words)
	at = c.Cut(at+1, y, c.W/3, base, x.text)
	state := ""
	switch {
	case x.err != nil:
		return
	case len(x.found) >= mostFound:
		state = "; the newest, older ones are not looked for"
	case x.place != nil && x.until != entry.None:
		state = fmt.Sprintf("; %s of %s left to look through, back to %s", humanize.Bytes(uint64(max(x.left, 0))),
			humanize.Bytes(uint64(x.of)), api.Moment(x.until))
	case x.place != nil || x.asking:
		state = "; looking"
	default:
		state = fmt.Sprintf("; all %s were looked through", room.Count(x.looked, "entry"))
	}
	if len(x.unread) > 0 {
		state += "; " + x.unread[0]
	}
	c.Cut(at, y, c.W-at-1, dim, state)
}
