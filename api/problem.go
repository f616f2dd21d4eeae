package api

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"strings"
)

// Code tells one kind of problem from others, for programs. It is an error, so that
// errors.Is(err, api.Changed) says whether err is a problem of that kind.
type Code string

// The kinds of problems. Failed is what has no kind of its own.
const (
	Failed      Code = "failed"
	Unknown     Code = "unknown"      // what is asked about is not there, or not any more
	BadQuestion Code = "bad-question" // the question makes no sense
	Changed     Code = "changed"      // a file is not what it was when it was opened
	Refused     Code = "refused"      // what was to be done is not possible now
	Unreadable  Code = "unreadable"   // a file or a log cannot be read
	NoAnswer    Code = "no-answer"    // nobody answers, or not in time
)

// Error makes a Code an error; it is the code.
func (c Code) Error() string { return string(c) }

// Problem is why something was not answered or done.
type Problem struct {
	Code  Code   `json:"code"`
	What  string `json:"what"`            // what is wrong, in a sentence without a full stop
	Where string `json:"where,omitempty"` // a file, a line, a rule
	Mend  string `json:"mend,omitempty"`  // what to do about it
}

// Error is the problem in one line: where, what, and how to mend it.
func (p *Problem) Error() string {
	s := p.What
	if p.Where != "" {
		s = p.Where + ": " + s
	}
	if p.Mend != "" {
		s += "; " + p.Mend
	}
	return s
}

// Is tells whether the problem is of a kind.
func (p *Problem) Is(target error) bool {
	c, ok := target.(Code)
	return ok && c == p.Code
}

// problemOf is an error as it goes over the wire.
func problemOf(err error) *Problem {
	var p *Problem
	if errors.As(err, &p) && p.Error() == err.Error() {
		return p
	}
	code := Failed
	switch {
	case p != nil:
		code = p.Code
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, context.Canceled):
		code = NoAnswer
	}
	return &Problem{Code: code, What: err.Error()}
}

// readProblem reads a problem from the wire.
func readProblem(r io.Reader) *Problem {
	b, _ := io.ReadAll(io.LimitReader(r, 64<<10)) // what could not be read is told by what could
	p := &Problem{}
	if json.Unmarshal(b, p) != nil || p.What == "" {
		return &Problem{Code: Failed, What: strings.TrimSpace(string(b))}
	}
	return p
}
