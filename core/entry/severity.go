package entry

import "strings"

// Severity says how bad an alert is. The names are those of RFC 5424, section
// 6.2.1, of which alerts use four; a greater value is worse. The zero value is
// no severity.
type Severity uint8

// The severities of alerts.
const (
	Notice Severity = iota + 1
	Warning
	Error
	Critical
)

// Severities are the names in rising order.
var Severities = []string{"notice", "warning", "error", "critical"}

func (s Severity) String() string {
	if s >= Notice && s <= Critical {
		return Severities[s-1]
	}
	return "none"
}

// SeverityOf returns the severity of that name, or 0 where there is none.
func SeverityOf(name string) Severity {
	for i, n := range Severities {
		if n == name {
			return Severity(i + 1)
		}
	}
	return 0
}

// Level returns the weight of a log level by its name, capitals or not: debug 1
// … emergency 8, as in RFC 5424 turned round. It is 0 for any other word.
func Level(word string) int {
	switch strings.ToLower(word) {
	case "debug", "trace", "verbose":
		return 1
	case "info", "information":
		return 2
	case "notice":
		return 3
	case "warning", "warn":
		return 4
	case "error", "err":
		return 5
	case "critical", "crit", "fatal":
		return 6
	case "alert":
		return 7
	case "emergency", "emerg", "panic":
		return 8
	}
	return 0
}

// LevelWritten returns the weight of a level as programs write it: by a name that Level
// knows, by another of the trade's (note, severe, fine, log), by its first letter, or by one
// of the marks . - * #. It is 0 for any other word.
func LevelWritten(word string) int {
	if n := Level(word); n > 0 {
		return n
	}
	switch strings.ToLower(word) {
	case "d", "t", "v", "dbg", "fine", "finer", "finest", "debug1", "debug2", "debug3", "debug4", "debug5", ".", "-":
		return 1
	case "i", "inf", "log", "config", "detail", "hint", "statement", "context", "query", "location":
		return 2
	case "n", "note", "*":
		return 3
	case "w", "wrn", "#":
		return 4
	case "e", "severe":
		return 5
	case "c", "f", "ftl":
		return 6
	}
	return 0
}
