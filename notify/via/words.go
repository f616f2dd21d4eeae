package via

import (
	"bytes"
	"fmt"
	htmltemplate "html/template"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	texttemplate "text/template"
	"time"

	"github.com/charmbracelet/x/ansi"

	"dimlantern/core/entry"
	"dimlantern/intake/regular"
)

// Words makes the subject, the text and the HTML of messages. The templates can be changed:
// each is a file of its name in the settings folder, in the language of text/template.
type Words struct {
	subject, text *texttemplate.Template
	html          *htmltemplate.Template
	zone          *time.Location
	own           bool // the text is that which comes with Dim Lantern
}

// The files in a settings folder that stand in the place of the templates that come with
// Dim Lantern.
const (
	SubjectFile = "message-subject.tmpl"
	TextFile    = "message-text.tmpl"
	HTMLFile    = "message-html.tmpl"
)

const subjectTemplate = `{{if eq .Kind "alert"}}{{headline (index .Alerts 0)}}
{{- else if eq .Kind "several"}}{{headline .Worst}}, and {{.Others}} more
{{- else if eq .Kind "summary"}}held back, {{len .Alerts}} alerts: {{headline .Worst}}
{{- else if eq .Kind "caught up"}}caught up: {{.Counts}}
{{- if .Alerts}}; {{headline .Worst}}{{with .Others}}, and {{.}} more{{end}}{{end}}
{{- else}}{{.Subject}}{{end}}`

const textTemplate = `{{.Subject}}
{{range .Short}}
{{- if $.Many}}
{{headline .}}
{{end}}
{{- with .Advise}}
{{still .}}
{{end}}
rule      {{.Rule}}{{with .KeyNamed}}, {{still .}}{{end}}
since     {{stamp .Since}}{{with .Changes}}; {{$.Then .}}{{end}}
{{- if eq .Change "cleared"}}
over      {{stamp .At}}, after {{span .Lasted}}{{end}}
why       {{still .Why}}{{with .Hits}}; {{.}}{{end}}
{{- range .Clears}}
ends      {{still .}}{{end}}
{{- with .By}}
by        {{.}}{{end}}
{{- with .Words}}
words     {{still .}}{{end}}
{{- if .Open}}
take it   dimlantern take {{.Alert}}{{$.Take}}
          or t on it in the room watch{{end}}
{{- if .Evidence}}

{{still .Place}}, newest first, times in {{zone .At}}:
{{range .Evidence}}{{if .Lit}}> {{else}}  {{end}}{{clock .At}}  {{still .Text}}
{{end}}{{end}}
{{end}}
{{- if .Rest}}
{{range .Rest}}- {{headline .}}
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
<div style="font-size:18px;font-weight:bold">{{still .Said}}</div>
<div style="color:#6b604c">{{.Head}} &middot; {{.Rule}}{{with .KeyWords}} {{still .}}{{end}}
&middot; since {{stamp .Since}}{{with .Changes}} &middot; {{$.Then .}}{{end}}
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
<td><code>dimlantern take {{.Alert}}{{$.Take}}</code> or t on it in the room watch</td></tr>{{end}}
</table>
{{if .Evidence}}<div style="color:#6b604c;font-size:13px">{{still .Place}}, newest first, times in {{zone .At}}</div>
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
<td>{{still .Said}}</td></tr>
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
		"clock":    func(t time.Time) string { return t.In(zone).Format("15:04:05") },
		"stamp":    func(t time.Time) string { return t.In(zone).Format("2 Jan 15:04:05 MST") },
		"zone":     func(t time.Time) string { return t.In(zone).Format("MST") },
		"span":     spanWords,
		"headline": func(n newsView) string { return unlinked(n.headline(zone)) },
		"still":    unlinked,
	}
	htmlFuncs := maps.Clone(funcs)
	htmlFuncs["still"] = Still
	htmlFuncs["headline"] = func(n newsView) string { return Still(n.headline(zone)) }
	for _, x := range []struct {
		name, own string
		parse     func(text, path string) error
	}{
		{SubjectFile, subjectTemplate, func(s, p string) (err error) {
			w.subject, err = texttemplate.New(p).Funcs(funcs).Option("missingkey=error").Parse(s)
			return err
		}},
		{TextFile, textTemplate, func(s, p string) (err error) {
			w.own = p == TextFile
			w.text, err = texttemplate.New(p).Funcs(funcs).Option("missingkey=error").Parse(s)
			return err
		}},
		{HTMLFile, htmlTemplate, func(s, p string) (err error) {
			w.html, err = htmltemplate.New(p).Funcs(htmlFuncs).Option("missingkey=error").Parse(s)
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
		Say: "Pump 7 at pump-03: pressure low, 3 times in 2m", Own: true, Where: "pump-03",
		Advise: "Look at the intake strainer.",
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
		v.all = append(v.all, newsView{&m.Alerts[i], m.Made})
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
	if m.Text = b.String(); w.own {
		m.Text = wrapped(m.Text, textWidth)
	}
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

// Many tells whether it is about several alerts.
func (v *view) Many() bool { return len(v.all) > 1 }

// Worst is the alert that is worst, of equal ones the first.
func (v *view) Worst() newsView {
	if len(v.all) == 0 {
		return newsView{News: &News{}}
	}
	best := v.all[0]
	for _, n := range v.all[1:] {
		if rank(n) > rank(best) {
			best = n
		}
	}
	return best
}

// rank is how bad an alert is; one that is over is better than any that is open.
func rank(n newsView) int {
	if n.Change == "cleared" {
		return 0
	}
	return int(entry.SeverityOf(n.Severity))
}

// Others are how many alerts there are beside the worst.
func (v *view) Others() int { return len(v.all) - 1 }

// Then says what happened one after the other.
func (v *view) Then(changes []string) string { return strings.Join(changes, ", then ") }

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
type newsView struct {
	*News
	made time.Time // the message
}

// Said is what it is about: the rule's own words, else its name and the key.
func (n newsView) Said() string {
	if n.Own {
		return n.Say
	}
	if key := n.KeyNamed(); key != "" {
		return n.Rule + ": " + key
	}
	return n.Rule
}

// KeyNamed are the values of the key with the names of its fields.
func (n newsView) KeyNamed() string {
	var out []string
	for _, f := range n.Fields {
		out = append(out, f+" "+n.Key[f])
	}
	return strings.Join(out, ", ")
}

// headline says what is wrong, how bad it is, where, and since when: nothing of it twice.
func (n newsView) headline(zone *time.Location) string {
	s := n.Said() + "; " + n.Head()
	if n.Where != "" && !strings.Contains(n.Said(), n.Where) {
		s += " at " + n.Where
	}
	if n.Change == "cleared" {
		return s + " after " + spanWords(n.Lasted())
	}
	since := "15:04 MST"
	if n.made.Sub(n.Since) > 20*time.Hour {
		since = "2 Jan 15:04 MST"
	}
	return s + ", since " + n.Since.In(zone).Format(since)
}

// Head says what it is in a word or two.
func (n newsView) Head() string {
	if len(n.Changes) > 1 {
		return strings.Join(n.Changes, ", then ")
	}
	switch n.Change {
	case "worsened":
		return "now " + n.Severity
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

// unlinked keeps what comes from a log from becoming a link where plain text is read, in a way that can
// be seen.
func unlinked(s string) string {
	return strings.NewReplacer("://", "[:]//", "www.", "www[.]", "WWW.", "WWW[.]").Replace(s)
}

// Still keeps what comes from a log from becoming a link where mail is read: a sign of no
// width stands in what begins one.
func Still(s string) string {
	return strings.NewReplacer("://", ":\u200b//", "www.", "www\u200b.", "WWW.", "WWW\u200b.", "@", "@\u200b",
		"mailto:", "mailto\u200b:").Replace(s)
}

// textWidth is how wide a plain text is at most, in columns (RFC 5322, section 2.1.1, asks for 78 at most).
const textWidth = 72

// wrapped breaks the lines of a text that are wider, at blanks where it can; what goes on stands below
// what it goes on from. A command stays whole, so that it can be copied.
func wrapped(text string, width int) string {
	var b strings.Builder
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		indent := hanging(line)
		for {
			if ansi.StringWidth(line) <= width || strings.Contains(line, "  dimlantern take ") {
				b.WriteString(line + "\n")
				break
			}
			head, rest := broken(line, width, indent)
			b.WriteString(head + "\n")
			line = strings.Repeat(" ", indent) + rest
		}
	}
	return b.String()
}

// labelled is a line that begins with a word, a time or a mark, and what it says behind that.
var labelled = regexp.MustCompile(`^(?:- |[a-z][a-z ]{1,8} +|[> ] ?[\d:]{8}  | {10,12})`)

// hanging is how far what a line goes on with is put in.
func hanging(line string) int {
	if m := labelled.FindString(line); m == "- " || len(m) >= 10 && len(m) <= 14 {
		return len(m)
	}
	return 0
}

// broken cuts a line that is too wide.
func broken(line string, width, indent int) (head, rest string) {
	cut, cells := 0, 0
	blank := 0
	for s := line; s != ""; {
		cluster, w := ansi.FirstGraphemeCluster(s, ansi.GraphemeWidth)
		if cells+w > width {
			break
		}
		if cluster == " " && cells > indent+8 {
			blank = cut
		}
		cells, cut, s = cells+w, cut+len(cluster), s[len(cluster):]
	}
	if blank > 0 {
		return line[:blank], strings.TrimLeft(line[blank:], " ")
	}
	return line[:cut], line[cut:]
}
