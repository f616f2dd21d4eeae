package trial

import (
	"fmt"
	"strings"

	"dimlantern/core/verdict"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Recall keeps what rules made of the entries of a sample, so that a trial of rules that
// match alike, and differ in when they raise and clear, looks at no entry again. It is for
// one sample, and for one goroutine at once.
type Recall struct {
	sign  string
	steps []*verdict.Judged // merged, in their order
	first entry.Instant     // the own time of the first entry of all
	from  entry.Instant     // of each stream's first entry, the earliest
	count int64             // entries
	full  bool              // there were too many to keep
	parts map[string]*Recall
}

// part is what is kept of a part of the sample; nil where nothing is kept.
func (k *Recall) part(name string) *Recall {
	if k == nil {
		return nil
	}
	if k.parts == nil {
		k.parts = map[string]*Recall{}
	}
	if k.parts[name] == nil {
		k.parts[name] = &Recall{}
	}
	return k.parts[name]
}

// mostRecalled is how many judged entries are kept.
const mostRecalled = 400_000

// signOf is the same for rules that make the same of every entry. Of is what the caller
// knows of how the entries are read.
func signOf(of string, rules []*lang.Rule, o *Options) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %d %d", of, o.From, o.To)
	for _, r := range rules {
		fmt.Fprintf(&b, "\n%s %q %q %q %v %v %v %v %d %q %q", r.Name, r.On, r.Per, r.From, r.During, r.Arrival,
			r.OnRecovery, r.Shares(), len(r.Raises), r.Measured(), r.Vars())
		for _, c := range r.Exprs() {
			if c.Word != "raise" {
				b.WriteString("\x00" + c.Word + " " + c.Expr.String())
			}
		}
		for i := range r.Raises {
			if x := &r.Raises[i]; x.Where != nil || x.Then != nil {
				fmt.Fprintf(&b, "\x00%d %v %v", i, x.Where, x.Then)
			}
		}
	}
	return b.String()
}

// play runs the engine over what was recalled.
func (r *replay) play(k *Recall) error {
	r.sum.Entries = k.count
	for i, j := range k.steps {
		if i%4096 == 0 && r.o.Stop != nil {
			if err := r.o.Stop(); err != nil {
				return err
			}
		}
		if i == 0 {
			r.starts(k.first)
		}
		r.step(j)
	}
	r.end()
	return nil
}
