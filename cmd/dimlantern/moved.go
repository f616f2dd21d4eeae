package main

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"dimlantern/api"
	"dimlantern/core/ask"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/folder"
	"dimlantern/intake/reread"
	"dimlantern/query"
	"dimlantern/service"

	"github.com/dustin/go-humanize"
)

// moved are notes of how many entries each rule that is judged at the centre would have moved yesterday: the hosts of
// the centre that runs in the data folder are asked. Without one there are none.
func moved(ctx context.Context, texts []folder.Text, settings *lang.Settings, data string) []lang.Diagnostic {
	var out []lang.Diagnostic
	for _, r := range settings.Rules {
		if !r.AtCentre {
			continue
		}
		if len(out) == 0 {
			st, err := api.AskStatus.Call(ctx, service.Join(data), api.None{})
			if err != nil || st == nil {
				return nil
			}
		}
		if d, ok := movedBy(ctx, r, texts, data); ok {
			out = append(out, d)
		}
	}
	return out
}

func movedBy(ctx context.Context, r *lang.Rule, texts []folder.Text, data string) (lang.Diagnostic, bool) {
	settings, q, _ := query.Typed(texts, whatItMoves(r))
	if q == nil {
		return lang.Diagnostic{}, false
	}
	host, _ := os.Hostname()
	m := ask.Moment{Lamp: entry.Of(time.Now()), Zone: time.Local, Reporter: host}
	p, err := ask.New(q, m)
	if err != nil {
		return lang.Diagnostic{}, false
	}
	o := &askOptions{places: places{data: data}}
	x := &query.Asking{Settings: settings, Plan: p, Notes: reread.NewNotes("")}
	if x.Others = query.OthersOf(settings, p, m, o.askHosts); x.Others == nil {
		return lang.Diagnostic{}, false
	}
	a, err := x.Answer(ctx)
	if err != nil || a.Hosts == 0 {
		return lang.Diagnostic{}, false
	}
	most := ""
	if r.Shares() {
		most = "at most "
	}
	d := lang.Diagnostic{Code: "runs-at-centre", Weight: lang.Note, Pos: r.Pos, Len: len("rule"),
		What: fmt.Sprintf("%s would have moved %s%s yesterday, %.3g a second, from %d of %s", r.Name, most,
			entries(a.Fit), float64(a.Fit)/(24*time.Hour).Seconds(), a.Hosts-len(a.Missing),
			count(a.Hosts, "host", "hosts"))}
	if len(a.Missing) > 0 {
		d.What += "; " + strings.Join(a.Missing, ", ")
	}
	for _, t := range texts {
		if lines := strings.Split(t.Body, "\n"); t.Name == r.Pos.File && r.Pos.Line <= len(lines) {
			d.Line = lines[r.Pos.Line-1]
		}
	}
	return d, true
}

func entries(n int64) string {
	if n == 1 {
		return "1 entry"
	}
	return humanize.Comma(n) + " entries"
}

// whatItMoves asks for the entries of yesterday that some clause of the rule holds on.
func whatItMoves(r *lang.Rule) string {
	var held lang.Or
	var clauses []string
	if len(r.On) > 0 {
		clauses = append(clauses, "on "+strings.Join(r.On, ", "))
	}
	for _, c := range r.Exprs() {
		if c.Word == "ignore" {
			clauses = append(clauses, "ignore "+c.Expr.String())
			continue
		}
		held.Of = append(held.Of, c.Expr)
	}
	switch len(held.Of) {
	case 0:
	case 1:
		clauses = append(clauses, "where "+held.Of[0].String())
	default:
		clauses = append(clauses, "where "+held.String())
	}
	clauses = append(clauses, "show count", "over yesterday")
	if len(r.For) > 0 {
		clauses = append(clauses, "for "+strings.Join(r.For, ", "))
	}
	return strings.Join(clauses, "\n")
}
