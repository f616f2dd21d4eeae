package api

import (
	"slices"
	"strings"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// ByHand is a hush that a person has made: of one alert, of a rule, of what rules are about,
// or of a host.
type ByHand struct {
	ID    string        `json:"id"`
	Alert string        `json:"alert,omitempty"`
	Of    string        `json:"of,omitempty"` // the alert's rule and key, in words
	Rule  string        `json:"rule,omitempty"`
	About string        `json:"about,omitempty"`
	Host  string        `json:"host,omitempty"`
	By    string        `json:"by"`
	From  string        `json:"from,omitempty"` // machine and terminal
	Since entry.Instant `json:"since"`
	Until entry.Instant `json:"until"` // 0: until somebody ends it
	Why   string        `json:"why,omitempty"`
}

func (h *ByHand) Holds(at entry.Instant) bool {
	return at >= h.Since && (h.Until == 0 || at < h.Until)
}

// Covers tells whether the hush keeps an alert quiet.
func (h *ByHand) Covers(r *lang.Rule, alert, rule string, fields, key []string) bool {
	switch {
	case h.Alert != "":
		return h.Alert == alert
	case h.Rule != "":
		return h.Rule == rule
	case h.About != "":
		return r != nil && slices.Contains(r.About, h.About)
	case h.Host != "":
		for i, f := range fields {
			if i < len(key) && (f == "host" && key[i] == h.Host || f == "origin" &&
				strings.HasPrefix(key[i], h.Host+":")) {
				return true
			}
		}
		return len(key) > len(fields) && key[len(fields)] == h.Host // the joined host that reported it
	}
	return false
}

// What says in words what a hush is of.
func (h *ByHand) What() string {
	switch {
	case h.Of != "":
		return h.Of
	case h.Alert != "":
		return "alert " + h.Alert
	case h.Rule != "":
		return "rule " + h.Rule
	case h.About != "":
		return "all about " + h.About
	}
	return "host " + h.Host
}

// ActQuery is what a person does to an alert, or to what is kept quiet.
type ActQuery struct {
	Person
	// What is take, hand over, let go, note, hush or unhush.
	What  string `json:"what"`
	Alert string `json:"alert,omitempty"`
	To    string `json:"to,omitempty"` // of hand over: to whom
	Words string `json:"words,omitempty"`
	// Hush is what is kept quiet; its ID is enough to end it.
	Hush *ByHand `json:"hush,omitempty"`
}

// ActDone says what was done.
type ActDone struct {
	Words string `json:"words"`
	Hush  string `json:"hush,omitempty"` // the ID of the hush that was made
}

// HushList are all hushes, those of people and those of the settings.
type HushList struct {
	List []HushView `json:"list"`
}

// HushView is one hush, and what it keeps quiet now.
type HushView struct {
	ID    string        `json:"id"`
	What  string        `json:"what"`
	By    string        `json:"by"` // who made it, or the settings' file and line
	Since entry.Instant `json:"since,omitempty"`
	Until entry.Instant `json:"until,omitempty"`
	When  string        `json:"when"` // in words
	Why   string        `json:"why"`
	Holds bool          `json:"holds"` // now
	Keeps []string      `json:"keeps"` // open alerts that it keeps quiet
	Hand  bool          `json:"hand"`  // a person can end it
}

// Person is who does something, and where: machine and terminal.
type Person struct {
	By   string `json:"by"`
	From string `json:"from,omitempty"`
}

func (p Person) Name() string {
	if p.By == "" {
		return "somebody"
	}
	return p.By
}

// ClearQuery ends an alert.
type ClearQuery struct {
	Person
	Alert string `json:"alert"`
	Words string `json:"words"`
}
