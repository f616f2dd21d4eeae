package main

import (
	"bytes"
	"context"
	_ "embed" // the page
	"errors"
	htmltemplate "html/template"
	"io"
	"strings"
	texttemplate "text/template"
	"time"

	"dimlantern/api"

	"github.com/spf13/cobra"

	"dimlantern/core/entry"
)

func handoverCommand() *cobra.Command {
	o := &places{}
	var since, until string
	var markdown, html, asJSON bool
	c := &cobra.Command{
		Use:   "handover --since TIME",
		Short: "What happened in a shift: for who takes over",
		Long: `Handover prints what happened since a time: what was raised, what is still open and who
has it, hushes, notes, changes of settings, what was told and what could not be. TIME is
written as ` + entry.Times + `.`,
		Example: "  dimlantern handover --since 22:00\n  dimlantern handover --since 22:00 --html > shift.html",
		Args:    cobra.NoArgs,
		PreRunE: needFlags("since"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			out := cmd.OutOrStdout()
			now := time.Now()
			from, err := entry.ParseTime(since, now, false)
			if err != nil {
				return err
			}
			q := api.ShiftQuery{From: entry.Of(from)}
			if until != "" {
				to, err := entry.ParseTime(until, now, false)
				if err != nil {
					return err
				}
				if !to.After(from) {
					return errors.New("--until lies before --since")
				}
				q.To = entry.Of(to)
			}
			return asked(o, func(ctx context.Context, s api.Lantern) error {
				shift, err := api.AskShift.Call(ctx, s, q)
				if err != nil {
					return err
				}
				switch {
				case asJSON:
					printJSON(out, shiftJSON(shift))
					return nil
				case html:
					return handoverHTML(out, shift)
				}
				return handoverText(out, shift, markdown)
			})
		},
	}
	o.dataFlag(c)
	c.Flags().StringVar(&since, "since", "", "since when")
	c.Flags().StringVar(&until, "until", "", "until when; now where it is left out")
	c.Flags().BoolVar(&markdown, "markdown", false, "as Markdown")
	c.Flags().BoolVar(&html, "html", false, "as a page in HTML")
	c.Flags().BoolVar(&asJSON, "json", false, "as one JSON object")
	return c
}

// shiftView is a shift as its page shows it.
type shiftView struct {
	*api.Shift
	Open, Over  []api.ShiftAlert
	Done        []api.Action
	RaisedTimes int
}

func viewOf(s *api.Shift) *shiftView {
	v := &shiftView{Shift: s}
	for _, a := range s.Alerts {
		if a.Cleared == entry.None {
			v.Open = append(v.Open, a)
		} else {
			v.Over = append(v.Over, a)
		}
		if !a.Before {
			v.RaisedTimes++
		}
	}
	for _, a := range s.Actions {
		if a.What == "hush" || a.What == "unhush" || a.What == "settings" {
			v.Done = append(v.Done, a)
		}
	}
	return v
}

var shiftFuncs = map[string]any{
	"at":     func(t entry.Instant) string { return t.Time().Local().Format("2 Jan 15:04") },
	"zone":   func(t entry.Instant) string { return t.Time().Local().Format("MST") },
	"lasted": func(a api.ShiftAlert) string { return entry.RoughSpan(a.Cleared.Sub(a.Raised)) },
	"age":    func(a api.ShiftAlert, to entry.Instant) string { return entry.RoughSpan(to.Sub(a.Raised)) },
	"key":    func(a api.ShiftAlert) string { return entry.Visible(strings.Join(a.Key, " ")) },
	"plain":  entry.Visible,
	"count":  countOf,
}

const shiftText = `{{.H1}}Shift at {{.Host}}, {{at .From}} to {{at .To}}, times in {{zone .To}}

{{count .RaisedTimes "alert was" "alerts were"}} raised; {{len .Open}} open now, {{len .Over}} over.
{{if .Open}}
{{.H2}}Still open
{{range .Open}}
{{$.Dot}}{{.Severity}}, {{age . $.To}}: {{plain .Say}} ({{.Rule}} {{key .}}, since {{at .Raised -}}
{{if .Before}}, from before{{end}}){{if .Taken}}, taken by {{plain .Taken}}{{else}}, nobody has it{{end}}
{{- range .Notes}}
{{$.Sub}}{{plain .}}{{end}}{{end}}
{{end}}{{if .Over}}
{{.H2}}Over
{{range .Over}}
{{$.Dot}}{{.Severity}}, lasted {{lasted .}}: {{plain .Say}} ({{.Rule}} {{key .}}, {{at .Raised -}}
, {{.Why}}){{if .Taken}}, was taken by {{plain .Taken}}{{end}}
{{- range .Notes}}
{{$.Sub}}{{plain .}}{{end}}{{end}}
{{end}}{{if .Hushes}}
{{.H2}}Kept quiet
{{range .Hushes}}
{{$.Dot}}{{plain .What}}, {{.When}}, by {{plain .By}}{{if .Why}}: {{plain .Why}}{{end}}{{range .Keeps}}
{{$.Sub}}{{plain .}}{{end}}{{end}}
{{end}}{{if .Done}}
{{.H2}}Done
{{range .Done}}
{{$.Dot}}{{at .At}} {{plain .By}}: {{.What}}{{if .Words}}, {{plain .Words}}{{end}}
{{- if .Did}} ({{plain .Did}}){{end}}{{end}}
{{end}}{{if .Told}}
{{.H2}}Told
{{range .Told}}
{{$.Dot}}{{.Contact}}: {{.Told}} told{{if .Waiting}}, {{.Waiting}} waiting{{end}}
{{- if .Failed}}, {{.Failed}} could not be told{{end}}
{{- if .Words}} ({{plain .Words}}){{end}}{{end}}
{{end}}{{if .Trouble}}
{{.H2}}Trouble
{{range .Trouble}}
{{$.Dot}}{{plain .}}{{end}}
{{end}}`

// escapeMarkdown keeps what comes from logs from being taken for Markdown.
var escapeMarkdown = strings.NewReplacer(`\`, `\\`, "`", "\\`", "*", `\*`, "_", `\_`, "[", `\[`, "]", `\]`, "<",
	"&lt;", ">", "&gt;", "#", `\#`, "|", `\|`, "~", `\~`)

func handoverText(w io.Writer, s *api.Shift, markdown bool) error {
	funcs := map[string]any{}
	for n, f := range shiftFuncs {
		funcs[n] = f
	}
	v := struct {
		*shiftView
		H1, H2, Dot, Sub string
	}{viewOf(s), "", "", "  ", "      "}
	if markdown {
		v.H1, v.H2, v.Dot, v.Sub = "# ", "## ", "- ", "  - "
		funcs["plain"] = func(s string) string { return escapeMarkdown.Replace(entry.Visible(s)) }
		funcs["key"] = func(a api.ShiftAlert) string {
			return escapeMarkdown.Replace(entry.Visible(strings.Join(a.Key, " ")))
		}
	}
	var b bytes.Buffer
	if err := texttemplate.Must(texttemplate.New("handover").Funcs(funcs).Parse(shiftText)).Execute(&b,
		v); err != nil {
		return err
	}
	_, err := w.Write(b.Bytes())
	return err
}

//go:embed handover.html
var shiftPage string

func handoverHTML(w io.Writer, s *api.Shift) error {
	return htmltemplate.Must(htmltemplate.New("handover").Funcs(shiftFuncs).Parse(shiftPage)).Execute(w, viewOf(s))
}

// shiftJSON is a shift as others read it: times as RFC 3339 has them.
func shiftJSON(s *api.Shift) any {
	type alert struct {
		Alert    string   `json:"alert"`
		Rule     string   `json:"rule"`
		Key      []string `json:"key"`
		Severity string   `json:"severity"`
		Raised   string   `json:"raised"`
		Cleared  string   `json:"cleared,omitempty"`
		Why      string   `json:"why,omitempty"`
		Count    int      `json:"count"`
		Say      string   `json:"say"`
		Taken    string   `json:"taken,omitempty"`
		Notes    []string `json:"notes,omitempty"`
	}
	type action struct {
		At string `json:"at"`
		api.Action
		Until string `json:"until,omitempty"`
	}
	out := struct {
		From    string          `json:"from"`
		To      string          `json:"to"`
		Host    string          `json:"host"`
		Alerts  []alert         `json:"alerts"`
		Hushes  []api.HushView  `json:"hushes"`
		Actions []action        `json:"actions"`
		Told    []api.ShiftTold `json:"told"`
		Trouble []string        `json:"trouble"`
	}{From: s.From.String(), To: s.To.String(), Host: s.Host, Alerts: []alert{}, Hushes: s.Hushes,
		Actions: []action{}, Told: s.Told, Trouble: s.Trouble}
	for _, a := range s.Alerts {
		x := alert{Alert: a.Alert, Rule: a.Rule, Key: a.Key, Severity: a.Severity.String(), Raised: a.Raised.String(),
			Why: a.Why, Count: a.Count, Say: a.Say, Taken: a.Taken, Notes: a.Notes}
		if a.Cleared != entry.None {
			x.Cleared = a.Cleared.String()
		}
		out.Alerts = append(out.Alerts, x)
	}
	for _, a := range s.Actions {
		x := action{At: a.At.String(), Action: a}
		if a.Until != 0 {
			x.Until = a.Until.String()
		}
		out.Actions = append(out.Actions, x)
	}
	return out
}
