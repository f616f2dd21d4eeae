package trial

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
)

// Sampler looks for clauses of the rules that look at a source which fit none of a sample
// of its entries, and for what nearly does.
type Sampler struct {
	settings *lang.Settings
	source   *lang.Source
	clauses  []*sampled
	divider  layout.Divider
	last     entry.Instant
	kinds    map[string]bool
	near     entry.Instant // about when it was read
	times    layout.Times
	Entries  int // that were looked at
}

type sampled struct {
	rule  *lang.Rule
	word  string
	expr  lang.Expr
	fits  int
	score int
	best  string // the entry that it fits nearly
	part  string // what of it does not
}

// maxKinds is how many kinds of lines are looked at for what nearly fits.
const maxKinds = 2000

// NewSampler begins with a sample of a source; near is where times without a year lie.
func NewSampler(s *lang.Settings, src *lang.Source, zone *time.Location, near entry.Instant) *Sampler {
	out := &Sampler{settings: s, source: src, last: near, near: near, kinds: map[string]bool{}}
	out.divider.Layout = layout.Compile(s.Layout(src.LayoutName()), zone, s.Secret)
	for _, r := range s.RulesFor(src.Name) {
		for _, c := range r.Exprs() {
			out.clauses = append(out.clauses, &sampled{rule: r, word: c.Word, expr: c.Expr})
			if or, ok := c.Expr.(*lang.Or); ok {
				for _, x := range or.Of {
					out.clauses = append(out.clauses, &sampled{rule: r, word: c.Word, expr: x})
				}
			}
		}
	}
	return out
}

// Add takes an entry.
func (s *Sampler) Add(host, line string) {
	if s.divider.Layout.Headed() && s.divider.See([]byte(line)) {
		return
	}
	s.Entries++
	x := s.divider.Divide([]byte(line), s.last)
	s.times.Add(s.divider.Layout, &x)
	if x.Timed {
		s.last = x.At
	}
	e := &entry.Entry{Source: s.source.Name, Host: HostOf(s.source, "", host),
		Raw: strings.ToValidUTF8(line, "\uFFFD"), At: s.last, Arrived: s.last, Fits: x.Fits, Fields: x.Fields}
	e.Origin = e.Host + ":"
	kind := strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return -1
		}
		return r
	}, line)
	fresh := len(s.kinds) < maxKinds && !s.kinds[kind]
	if fresh {
		s.kinds[kind] = true
	}
	for _, c := range s.clauses {
		if c.fits > 0 {
			continue
		}
		if match.Eval(c.expr, &match.Subject{Entry: e}) {
			c.fits++
			continue
		}
		if !fresh {
			continue
		}
		if score, part := nearness(c.expr, e); score > c.score {
			c.score, c.best, c.part = score, x.Hide(e.Raw), x.Hide(part)
		}
	}
}

// nearness is how much of an expression fits an entry, and the first part that does not,
// with what stands there instead. 0 is nothing that would tell anything.
func nearness(x lang.Expr, e *entry.Entry) (score int, part string) {
	var says ClauseSays
	explain(x, &match.Subject{Entry: e}, "", &says)
	for _, p := range says.Parts {
		p = strings.TrimSpace(p)
		switch {
		case p == "yes  all of", p == "yes  any of", p == "no   all of", p == "no   any of",
			strings.HasSuffix(p, "  not"):
		case strings.HasPrefix(p, "yes"):
			score += 10
		case strings.Contains(p, "(it stands there") || strings.Contains(p, "is there only with") ||
			strings.Contains(p, "is there, but"):
			score += 5
			fallthrough
		default:
			if part == "" {
				part = strings.TrimSpace(strings.TrimPrefix(p, "no"))
			}
		}
	}
	return score, part
}

// Findings are the clauses that fit no entry of the sample, in the order of the rules.
func (s *Sampler) Findings() []lang.Diagnostic {
	if s.Entries == 0 {
		return nil
	}
	out := s.timeFindings()
	for i, c := range s.clauses {
		if c.fits > 0 {
			continue
		}
		if or, ok := c.expr.(*lang.Or); ok && i+len(or.Of) < len(s.clauses) { // its parts are told
			continue
		}
		d := lang.Diagnostic{Code: NeverFits, Weight: lang.Note, Pos: c.expr.Place(), Len: 1,
			What: fmt.Sprintf("%s %s of %s fits none of %d entries of %s", c.word, c.expr, c.rule.Name, s.Entries,
				s.source.Name)}
		if c.score > 0 {
			d.What += fmt.Sprintf("; nearly: %s", lang.Quote(c.best))
			d.Mend = "there, " + c.part + " does not fit"
		}
		out = append(out, d)
	}
	slices.SortStableFunc(out, func(a, b lang.Diagnostic) int {
		if c := strings.Compare(a.Pos.File, b.Pos.File); c != 0 {
			return c
		}
		return a.Pos.Line - b.Pos.Line
	})
	return out
}

// timeFindings say of a layout's times that they cannot be read, or lie far from now.
func (s *Sampler) timeFindings() []lang.Diagnostic {
	l := s.settings.Layout(s.source.LayoutName())
	if l == nil || l.Time == nil {
		return nil
	}
	d := lang.Diagnostic{Weight: lang.Finding, Pos: l.Time.Pos, Len: len("time")}
	if words := s.times.Unread(); words != "" {
		d.Code, d.What, d.Mend = TimesUnread, fmt.Sprintf("of %s, %s", s.source.Name, words),
			"write an example of it behind like; such entries have the time of their arrival"
		return []lang.Diagnostic{d}
	}
	if words := s.times.Far(s.near); words != "" {
		d.Code, d.What, d.Mend = TimesFar, fmt.Sprintf("of %s, %s", s.source.Name, words),
			"look at the order of day, month and year, and at the zone"
		return []lang.Diagnostic{d}
	}
	return nil
}

// The codes of what a sample shows: a clause that fits no entry of it, times that cannot be
// read, and times that lie in another year.
const (
	NeverFits   = "never-fits"
	TimesUnread = "times-unread"
	TimesFar    = "times-far"
)
