package via

import (
	"bytes"
	"fmt"
	htmltemplate "html/template"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	texttemplate "text/template"
	"time"

	"dimlantern/intake/regular"
)

// Words makes the subject, the text and the HTML of messages. The templates can be changed:
// each is a file of its name in the settings folder, in the language of text/template.
type Words struct {
	subject, text *texttemplate.Template
	html          *htmltemplate.Template
	zone          *time.Location
}

// The files in a settings folder that stand in the place of the templates that come with
// Dim Lantern.
const (
	SubjectFile = "message-subject.tmpl"
	TextFile    = "message-text.tmpl"
	HTMLFile    = "message-html.tmpl"
)

const subjectTemplate = `{{define "one"}}{{.Head}}: {{still .Say}} ({{.Rule}}{{with .KeyWords}} {{still .}}{{end -}}
), since {{clock .Since}}{{end -}}
{{if eq .Kind "alert"}}{{template "one" index .Alerts 0}}
{{- else if eq .Kind "several"}}{{len .Alerts}} alerts, the worst {{.Severity}}: {{.Counts}}
{{- else if eq .Kind "summary"}}{{len .Alerts}} more that were held back, the worst {{.Severity}}: {{.Counts}}
{{- else if eq .Kind "caught up"}}caught up: {{.Counts}}
{{- else}}{{.Subject}}{{end}}`

const textTemplate = `{{.Subject}}
{{range .Short}}
{{.Head}}: {{still .Say}}
{{.Rule}}{{with .KeyWords}} {{still .}}{{end}}, {{.Severity}}, since {{stamp .Since}}
{{- if eq .Change "cleared"}}, over {{stamp .At}} after {{span .Lasted}}{{end}}
{{- with .Advise}}

{{still .}}{{end}}

why       {{.Why}}{{with .Hits}}; {{.}}{{end}}
{{- range .Clears}}
ends      {{.}}{{end}}
{{- with .By}}
by        {{.}}{{end}}
{{- with .Words}}
words     {{still .}}{{end}}
{{- if .Open}}
take it   dimlantern take {{.Alert}}   or t on it in the room watch{{end}}
{{- if .Evidence}}

{{still .Place}}, newest first:
{{range .Evidence}}{{if .Lit}}> {{else}}  {{end}}{{clock .At}}  {{still .Text}}
{{end}}{{end}}
{{end}}
{{- if .Rest}}
{{range .Rest}}{{stamp .At}}  {{.Change}} {{.Severity}}  {{.Rule}}{{with .KeyWords}} {{still .}}{{end}}  {{still .Say}}
{{end}}{{end}}
-- 
Dim Lantern at {{.Host}}, to {{.Contact}}. dimlantern hush keeps something quiet.
`

const htmlTemplate = `{{define "of"}}color:#6b604c;padding:1px 18px 1px 0;vertical-align:top{{end -}}
<!DOCTYPE html>
<html><head><meta charset="utf-8"><title>{{.Subject}}</title></head>
<body style="margin:0;background:#fbf7ee;color:#2b2418;font:15px/1.45 sans-serif">
<div style="max-width:760px;margin:0 auto;padding:20px 24px">
{{range .Short}}
<div style="border-left:6px solid {{.Colour}};padding:2px 0 2px 14px;margin:0 0 14px">
<div style="font-size:18px;font-weight:bold">{{still .Say}}</div>
<div style="color:#6b604c">{{.Head}} &middot; {{.Rule}}{{with .KeyWords}} {{still .}}{{end}}
&middot; since {{stamp .Since}}
{{- if eq .Change "cleared"}} &middot; over {{stamp .At}} after {{span .Lasted}}{{end}}</div>
</div>
{{with .Advise}}<p style="margin:0 0 14px">{{still .}}</p>{{end}}
{{if $.Picture}}<p style="margin:0 0 14px">
<img src="cid:` + pictureID + `" alt="the lifeline" style="max-width:100%"></p>{{end}}
<table style="border-collapse:collapse;font-size:14px;margin:0 0 14px">
<tr><td style="{{template "of"}}">why</td><td>{{.Why}}{{with .Hits}}; {{.}}{{end}}</td></tr>
{{range .Clears}}<tr><td style="{{template "of"}}">ends</td><td>{{.}}</td></tr>{{end}}
{{with .By}}<tr><td style="{{template "of"}}">by</td><td>{{.}}</td></tr>{{end}}
{{with .Words}}<tr><td style="{{template "of"}}">words</td><td>{{still .}}</td></tr>{{end}}
{{if .Open}}<tr><td style="{{template "of"}}">take it</td>
<td><code>dimlantern take {{.Alert}}</code> or t on it in the room watch</td></tr>{{end}}
</table>
{{if .Evidence}}<div style="color:#6b604c;font-size:13px">{{still .Place}}, newest first</div>
<pre style="background:#f3ead7;padding:10px 12px;margin:4px 0 18px;font:12px/1.5 monospace;
white-space:pre-wrap;word-break:break-word">{{range .Evidence}}
{{- if .Lit}}<b>{{clock .At}}  {{still .Text}}</b>{{else}}{{clock .At}}  {{still .Text}}{{end}}
{{end}}</pre>{{end}}
{{end}}
{{if .Rest}}<div style="font-size:16px;font-weight:bold;margin:0 0 8px">{{.Subject}}</div>
<table style="border-collapse:collapse;font-size:13px;margin:0 0 14px">
{{range .Rest}}<tr>
<td style="padding:1px 12px 1px 8px;border-left:5px solid {{.Colour}};white-space:nowrap;color:#6b604c">
{{- stamp .At}}</td>
<td style="padding:1px 12px 1px 0">{{.Head}}</td>
<td style="padding:1px 12px 1px 0">{{.Rule}}{{with .KeyWords}} {{still .}}{{end}}</td>
<td>{{still .Say}}</td></tr>
{{end}}</table>{{end}}
{{if and (not .Short) (not .Rest)}}<p>{{.Subject}}</p>{{end}}
<div style="color:#8f8472;font-size:12px;border-top:1px solid #e2d8c3;padding-top:8px">
Dim Lantern at {{.Host}}, to {{.Contact}}. <code>dimlantern hush</code> keeps something quiet.</div>
</div></body></html>
`

// mostInFull is how many alerts of a message are told with their evidence; of more there is
// a line each.
const mostInFull = 3

// mostLines is how many lines of others a message has at most.
const mostLines = 5000

// ReadWords takes the templates of a settings folder, and for those that are not there the
// ones that come with Dim Lantern. Times are written in a zone; nil is the machine's. It
// fails with what is wrong in a template, and where.
func ReadWords(folder string, zone *time.Location) (*Words, error) {
	if zone == nil {
		zone = time.Local
	}
	w := &Words{zone: zone}
	get := func(name, own string) (string, string, error) {
		if folder == "" {
			return own, name, nil
		}
		path := filepath.Join(folder, name)
		b, err := regular.Read(path, 1<<20)
		switch {
		case err == nil:
			return string(b), path, nil
		case os.IsNotExist(err), isNoFolder(err):
			return own, name, nil
		}
		return "", path, fmt.Errorf("%s cannot be read: %s", path, plainReason(err))
	}
	funcs := map[string]any{
		"clock": func(t time.Time) string { return t.In(zone).Format("15:04:05") },
		"stamp": func(t time.Time) string { return t.In(zone).Format("2 Jan 15:04:05") },
		"span":  spanWords,
		"still": Still,
	}
	for _, x := range []struct {
		name, own string
		parse     func(text, path string) error
	}{
		{SubjectFile, subjectTemplate, func(s, p string) (err error) {
			w.subject, err = texttemplate.New(p).Funcs(funcs).Option("missingkey=error").Parse(s)
			return err
		}},
		{TextFile, textTemplate, func(s, p string) (err error) {
			w.text, err = texttemplate.New(p).Funcs(funcs).Option("missingkey=error").Parse(s)
			return err
		}},
		{HTMLFile, htmlTemplate, func(s, p string) (err error) {
			w.html, err = htmltemplate.New(p).Funcs(funcs).Option("missingkey=error").Parse(s)
			return err
		}},
	} {
		text, path, err := get(x.name, x.own)
		if err != nil {
			return nil, err
		}
		if err := x.parse(text, path); err != nil {
			return nil, fmt.Errorf("the template %s is not right: %s", path,
				strings.TrimPrefix(err.Error(), "template: "))
		}
	}
	for _, kind := range []string{KindAlert, KindSeveral, KindSummary, KindCaught, KindTest} {
		m := Sample(kind)
		if err := w.Fill(m, true); err != nil {
			return nil, err
		}
	}
	return w, nil
}

func isNoFolder(err error) bool {
	pe, ok := err.(*fs.PathError)
	return ok && pe.Err.Error() == "not a directory"
}

// Sample is a message of made-up news, by which templates are tried.
func Sample(kind string) *Message {
	at := time.Date(2026, 11, 24, 5, 33, 10, 0, time.UTC)
	news := News{Change: "raised", Rule: "pump-pressure-low", Key: map[string]string{"host": "pump-03", "pump": "7"},
		Fields: []string{"host", "pump"}, Severity: "warning",
		Alert: "k3f9a0c2d1e8", At: at, Since: at, Count: 3, Why: "3 hits in 5m",
		Say: "Pump 7 at pump-03: pressure low, 3 times in 2m", Advise: "Look at the intake strainer.",
		Clears: []string{"its recovery, or 30m without a hit"}, Place: "pump-03:/var/log/gullhaven/pump-03.log",
		Evidence: []Line{{at, "pump 7: pressure low (1.3 bar, want 2.0)", true},
			{at.Add(-time.Minute), "pump 7: flow 310 l/min", false}}}
	m := &Message{ID: "test", Kind: kind, Made: at, Host: "lock-3", Contact: "duty", Severity: "warning",
		Alerts: []News{news}}
	switch kind {
	case KindTest, KindBlind:
		m.Alerts, m.Subject = nil, "a test of the contact duty"
	case KindAlert:
	default:
		for range 4 {
			m.Alerts = append(m.Alerts, news)
		}
	}
	return m
}

// Fill writes subject and text of a message, and its HTML where that is asked for.
func (w *Words) Fill(m *Message, html bool) error {
	v := &view{Message: m}
	for i := range m.Alerts {
		v.all = append(v.all, newsView{News: &m.Alerts[i]})
	}
	var b bytes.Buffer
	if err := w.subject.Execute(&b, v); err != nil {
		return fmt.Errorf("the template of the subject does not work: %w", err)
	}
	m.Subject = oneLine(b.String())
	if r := []rune(m.Subject); len(r) > 200 {
		m.Subject = string(r[:199]) + "…"
	}
	b.Reset()
	if err := w.text.Execute(&b, v); err != nil {
		return fmt.Errorf("the template of the text does not work: %w", err)
	}
	m.Text = b.String()
	if !html {
		return nil
	}
	b.Reset()
	if err := w.html.Execute(&b, v); err != nil {
		return fmt.Errorf("the template of the HTML does not work: %w", err)
	}
	m.HTML = b.String()
	return nil
}

// view is what templates see.
type view struct {
	*Message
	all []newsView
}

// Alerts are all that the message is about.
func (v *view) Alerts() []newsView { return v.all }

// Short are those that are told in full: all, where they are few.
func (v *view) Short() []newsView {
	if len(v.all) > mostInFull || v.Kind == KindSummary || v.Kind == KindCaught {
		return nil
	}
	return v.all
}

// Rest are the others, a line each.
func (v *view) Rest() []newsView {
	if v.Short() != nil {
		return nil
	}
	return v.all[:min(len(v.all), mostLines)]
}

// Counts says how many of which change there are.
func (v *view) Counts() string {
	n := map[string]int{}
	for _, a := range v.all {
		n[a.Change]++
	}
	var out []string
	for _, c := range []string{"raised", "reopened", "worsened", "repeated", "cleared"} {
		if n[c] > 0 {
			out = append(out, fmt.Sprintf("%d %s", n[c], c))
		}
	}
	return strings.Join(out, ", ")
}

// newsView is one alert as templates see it.
type newsView struct{ *News }

// Head says what it is in a word or two.
func (n newsView) Head() string {
	switch n.Change {
	case "worsened":
		return "worse, " + n.Severity
	case "repeated":
		return "still " + n.Severity
	case "reopened":
		return "again " + n.Severity
	case "cleared":
		return "over"
	}
	return n.Severity
}

// KeyWords are the values of the key.
func (n newsView) KeyWords() string {
	var out []string
	for _, f := range n.Fields {
		out = append(out, n.Key[f])
	}
	return strings.Join(out, " ")
}

// Hits says how many hits it has had, where its reason does not say so already.
func (n newsView) Hits() string {
	hits := fmt.Sprintf("%d hits", n.Count)
	if n.Count == 1 {
		hits = "1 hit"
	}
	if n.Count == 0 || strings.HasPrefix(n.Why, hits) {
		return ""
	}
	return hits
}

// Open tells whether it is open after this change.
func (n newsView) Open() bool { return n.Change != "cleared" }

// Lasted is how long it was open.
func (n newsView) Lasted() time.Duration { return n.At.Sub(n.Since) }

// Colour is that of its severity: the worse, the darker; what is over is green.
func (n newsView) Colour() string {
	if n.Change == "cleared" {
		return "#1f756c"
	}
	switch n.Severity {
	case "critical":
		return "#2b1500"
	case "error":
		return "#8a4b06"
	case "warning":
		return "#c4853a"
	}
	return "#d9bd86"
}

func spanWords(d time.Duration) string {
	switch d = d.Round(time.Second); {
	case d < time.Minute:
		return fmt.Sprintf("%ds", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%dm", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%dh%02dm", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%dd", int(d.Hours())/24)
}

// Still keeps what comes from a log from becoming a link where mail is read: a sign of no
// width stands in what begins one.
func Still(s string) string {
	return strings.NewReplacer("://", ":\u200b//", "www.", "www\u200b.", "WWW.", "WWW\u200b.", "@", "@\u200b",
		"mailto:", "mailto\u200b:").Replace(s)
}
