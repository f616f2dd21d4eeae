// Package snapshot is what the service's loop knew at the end of a round, published for
// all who ask: a Snapshot never changes, so a question holds up nothing, and nothing holds
// up a question. A House is what of a service never changes at all. Nothing is computed
// here that the core computes, and nothing is written.
package snapshot

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync/atomic"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/folder"
	"dimlantern/hosts"
)

// House is where a service works. It does not change while it runs.
type House struct {
	Host     string // the name of this machine
	Settings string // a folder of *.lantern files, or one such file
	Data     string // the data folder
	Where    string // where the service runs, in words for the screens
	Channels string // where the channels are of sources that do not say; "" is this machine
	Secret   []byte // of the data folder, by which masks make their stand-ins
	Began    entry.Instant
	// Joined puts what a centre has sent before what the settings folder says; nil where there cannot be any.
	Joined func(own []folder.Text) []folder.Text
	// Tokens is the key of stand-ins that the centre has sent; nil where there is no centre.
	Tokens func() []byte

	reporter atomic.Pointer[string]
}

// Reporter is the name under which this machine first joined a centre; "" where it has not.
func (h *House) Reporter() string {
	if name := h.reporter.Load(); name != nil {
		return *name
	}
	return ""
}

// Report says under which name this machine has joined a centre.
func (h *House) Report(name string) { h.reporter.Store(&name) }

// Read reads the settings as this service has them: those of the folder, behind those of the centre.
func (h *House) Read() ([]folder.Text, error) {
	texts, err := folder.Read(h.Settings)
	if h.Joined != nil {
		texts = h.Joined(texts)
	}
	return texts, err
}

// TakeWith is what is written behind a command so that it reaches this service: nothing where its data
// lies where this user's data lies anyway.
func (h *House) TakeWith() string {
	state := os.Getenv("XDG_STATE_HOME")
	if home, err := os.UserHomeDir(); !filepath.IsAbs(state) && err == nil {
		state = filepath.Join(home, ".local", "state")
	}
	if h.Data == filepath.Join(state, "dimlantern") {
		return ""
	}
	data := h.Data
	if strings.ContainsAny(data, " '\"\\$&|;<>()*?[]{}!#~`") {
		data = "'" + strings.ReplaceAll(data, "'", `'\''`) + "'"
	}
	return " --data " + data
}

// Folder is the folder in which settings files are written.
func (h *House) Folder() string {
	if info, err := os.Stat(h.Settings); err == nil && !info.IsDir() {
		return filepath.Dir(h.Settings)
	}
	return h.Settings
}

// Check checks settings as this service has them: with its own secret, and the source and
// rules that are built in.
func (h *House) Check(texts []folder.Text) (*lang.Settings, []lang.Diagnostic) {
	out, ds := folder.Check(texts)
	h.own(out)
	return out, ds
}

// CheckErrors is Check for those who want to know of errors alone.
func (h *House) CheckErrors(texts []folder.Text) (*lang.Settings, []lang.Diagnostic) {
	out, ds := folder.CheckErrors(texts)
	h.own(out)
	return out, ds
}

// own gives settings what they have here.
func (h *House) own(out *lang.Settings) {
	out.Secret = h.Secret
	if h.Tokens != nil {
		out.Tokens = h.Tokens()
	}
	out.Beyond = hosts.Limit(out)
	h.withItself(out)
}

// What Dim Lantern notices about its own rules and layouts it writes into a log of its
// own, and built-in rules look at that as rules look at every other log: so it is raised,
// told, cleared and looked back at as everything else is.

// itselfText are the built-in source and rules; %s is where the log will be.
const itselfText = `source dim-lantern {
  files  %s
  begin  oldest
  layout json
}

rule rule-silent {
  on       dim-lantern
  problem  event == "rule-silent"
  recovery event == "rule-heard"
  per      rule
  raise    notice
  say      "{rule} has had no hit since {since}; usually one comes within {usual}"
  advise   "Has what it looks for been reworded? y on an entry of its log tells what it is for the rule."
}

rule contact-unreachable {
  on       dim-lantern
  problem  event == "contact-unreachable"
  recovery event == "contact-reached"
  per      contact
  raise    error
  say      "{contact} cannot be told by {way}: {reason}"
  advise   "dimlantern tell --test CONTACT says what is wrong. What waits is told as soon as it goes."
}

rule report-failed {
  on       dim-lantern
  problem  event == "report-failed"
  recovery event == "report-made"
  per      report
  raise    error
  say      "report {report} could not be made: {reason}"
  advise   "dimlantern report NAME --now makes it once more, and says what is wrong."
}

rule delivery-behind {
  on       dim-lantern
  problem  event == "delivery-behind"
  recovery event == "delivery-well"
  per      delivery
  raise    error
  say      "{delivery} is behind: {reason}; lost so far: {lost} bytes"
  advise   "dimlantern deliveries says how much waits, since when, and what would mend it."
}

rule host-silent {
  on       dim-lantern
  problem  event == "host-silent"
  recovery event == "host-heard"
  per      name
  raise    error
  say      "The host {name} has said nothing since {since}, and no goodbye"
  advise   "Does the machine run, and does dimlantern watch run on it? Can it reach this centre?"
}

rule brokers-unreachable {
  on       dim-lantern
  problem  event == "brokers-unreachable"
  recovery event == "brokers-reached"
  raise    error
  say      "The brokers of this centre cannot be used since {since}: {reason}"
  advise   "No host is heard meanwhile, and each goes on by itself. Do the brokers run, and do the credentials hold?"
}

rule layout-fits-less {
  on       dim-lantern
  problem  event == "layout-misfits"
  recovery event == "layout-fits"
  per      log
  raise    warning
  say      "{misfits} of the newest {looked} entries of {log} do not fit the layout {layout}; before, {before} did not"
  advise   "Look at its misfits in the room sources; a layout may have several patterns."
}
`

// BuiltIn tells whether a rule is one of those that come with Dim Lantern.
func BuiltIn(r *lang.Rule) bool { return r.Pos.File == builtInFile }

const builtInFile = "built-in"

// Unreachable is the built-in rule about contacts that cannot be told.
const Unreachable = "contact-unreachable"

// HostSilent is the built-in rule of a centre about hosts that say nothing, BrokersUnreachable that of one that goes
// through a cluster.
const (
	HostSilent         = "host-silent"
	BrokersUnreachable = "brokers-unreachable"
)

// The log of its own, in the data folder. The source has a pattern for it, so that it has
// no origin before there is something in it.
const (
	ItselfFolder = "noticed"
	ItselfFile   = ItselfFolder + "/dim-lantern.log"
)

// withItself adds the built-in source and rules to settings. A rule of the settings with
// the name of a built-in one stands in its place.
func (h *House) withItself(to *lang.Settings) {
	if to.AllBuiltInOff || to.Source(lang.Itself) != nil {
		return
	}
	path, err := filepath.Abs(filepath.Join(h.Data, ItselfFolder))
	if err != nil {
		return
	}
	own, ds := folder.CheckErrors([]folder.Text{{Name: builtInFile,
		Body: fmt.Sprintf(itselfText, lang.Quote(folder.EscapeGlob(path)+"/*.log"))}})
	if lang.Errors(ds) { // a folder whose name no settings file can hold
		return
	}
	added := false
	for _, r := range own.Rules {
		if r.Name == HostSilent && !to.Hosts.IsCentre() || r.Name == BrokersUnreachable && len(to.Hosts.Through) == 0 {
			continue
		}
		if to.Rule(r.Name) == nil && !slices.Contains(to.BuiltInOff, r.Name) {
			r.Zone = nil
			to.Rules = append(to.Rules, r)
			added = true
		}
	}
	if !added && !slices.ContainsFunc(to.Rules, func(r *lang.Rule) bool {
		return slices.Contains(r.On,
			lang.Itself)
	}) {
		return
	}
	to.Sources = append(to.Sources, own.Sources...)
	sort.SliceStable(to.Rules, func(i, j int) bool { return to.Rules[i].Name < to.Rules[j].Name })
	sort.SliceStable(to.Sources, func(i, j int) bool { return to.Sources[i].Name < to.Sources[j].Name })
}
