package match

import (
	"regexp"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/verdict"
)

// Sought finds the entries of a source that a person looks for. It is not for several
// goroutines at once.
type Sought struct {
	Looked int64 // entries that were looked at

	plan   *Plan // what they are shown by
	reader *Reader
	shower layout.Divider
	sifter layout.Divider
	words  []string
	given  []entry.Field // by the source
}

// SoughtEntry is an entry that was found, as it may be shown.
type SoughtEntry struct {
	Offset int64 // of its first byte in the text of its file
	At     entry.Instant
	Raw    string
	layout.Division
}

// NewSought looks for the entries of a source for which the problem of a rule holds, or, with
// words, those that have all of them somewhere, in capitals or not. Then the rule is one of
// the words, by WordsExpr, and looks at whole entries.
func NewSought(s *lang.Settings, src *lang.Source, rule *lang.Rule, words []string, zone *time.Location) *Sought {
	x := &Sought{plan: NewPlan(s, src, nil, zone), words: words}
	settings, by := s, src
	if len(words) > 0 { // the whole entry is the text
		plain := *src
		plain.Layout, plain.Only = "plain", nil
		by, settings = &plain, &lang.Settings{Secret: s.Secret}
	}
	only := *rule
	only.On = nil
	finder := NewPlan(settings, by, []*lang.Rule{&only}, zone)
	x.reader = NewReader(finder, "", "", false)
	x.shower.Layout, x.sifter.Layout = x.plan.Layout, x.plan.Layout
	return x
}

// Plan is how the entries of the source are divided.
func (x *Sought) Plan() *Plan { return x.plan }

// WordsExpr is an expression for entries that have all of some words, in capitals or not, as
// the language has it.
func WordsExpr(words []string) string {
	var all []string
	for _, w := range words {
		all = append(all, (&lang.Pattern{Source: "(?i)" + regexp.QuoteMeta(w)}).String())
	}
	return strings.Join(all, " and ")
}

// In looks through a text of whole entries which begins at a place of its file. Origin and
// host are those of its log, header the line that names its columns; near is about when it was
// written.
func (x *Sought) In(text []byte, base int64, origin, host, header string, near entry.Instant,
	each func(SoughtEntry)) {
	r := x.reader
	r.Origin, r.Host, r.Near, r.Last, r.Reached, r.Encoding = origin, host, near, entry.None, entry.None, UTF8
	r.LastHost = ""
	r.SetHeader(header)
	x.shower.Header, x.sifter.Header = header, header
	_, path, _ := strings.Cut(origin, ":")
	x.given = x.plan.Constants(path, host)
	r.constant = r.Plan.Constants(path, host)
	if x.plan.Layout.Headed() && header == "" {
		x.plan.SeeAll(&x.shower, text[:min(len(text), 64<<10)])
		x.sifter.Header = x.shower.Header
	}
	r.Begin(text)
	x.Looked += r.Scan(text, base, near, func(j *verdict.Judged) {
		from, to := j.Entry.Offset-base, min(j.Next-base, int64(len(text)))
		if from < 0 || from >= to {
			return
		}
		line := strings.TrimSuffix(strings.TrimSuffix(string(text[from:to]), "\n"), "\r")
		if len(x.words) > 0 && !x.plan.Wants(&x.sifter, near, host, []byte(x.plan.Bare([]byte(line)))) {
			return
		}
		v, shown := x.plan.Shown(&x.shower, []byte(line), near)
		if len(x.words) > 0 && !hasAll(strings.ToLower(shown), x.words) {
			return // it stands in what nobody is to see
		}
		v.Fields = Given(v.Fields, x.given)
		e := SoughtEntry{Offset: j.Entry.Offset, At: j.Entry.At, Raw: shown, Division: v}
		if v.Timed {
			e.At = v.At
		}
		each(e)
	}, nil)
}

func hasAll(s string, words []string) bool {
	for _, w := range words {
		if !strings.Contains(s, strings.ToLower(w)) {
			return false
		}
	}
	return true
}
