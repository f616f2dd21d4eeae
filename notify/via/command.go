package via

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"dimlantern/core/engine"
)

// commandTimeout is how long a command may run.
const commandTimeout = 30 * time.Second

// commandOutput is how much of what a command says is kept, in bytes.
const commandOutput = 4096

// commandTooMuch is how much a command may say at all before it is ended, in bytes.
const commandTooMuch = 1 << 20

// commandWay runs a program, without a shell.
type commandWay struct{ words []string }

// Command is the way of a program with its arguments. In an argument {rule}, {severity},
// {change}, {alert}, {say} and the fields of the key stand for what the message is about:
// whatever they hold, each stays one argument.
func Command(words []string) Way { return &commandWay{words} }

func (w *commandWay) String() string { return "command " + filepath.Base(w.words[0]) }

// Tell is part of Way. The program gets the text on its standard input, and what the message
// is about in its environment; its end with status 0 is a yes.
func (w *commandWay) Tell(ctx context.Context, m *Message) (string, error) {
	where := "running " + w.words[0]
	ctx, cancel := context.WithTimeout(ctx, commandTimeout)
	defer cancel()
	values := map[string]string{"id": m.ID, "subject": m.Subject, "severity": m.Severity, "contact": m.Contact,
		"kind": m.Kind}
	if len(m.Alerts) > 0 {
		a := &m.Alerts[0]
		for f, v := range a.Key {
			values[f] = v
		}
		values["rule"], values["change"], values["alert"], values["say"] = a.Rule, a.Change, a.Alert, a.Say
	}
	var args []string
	for _, word := range w.words[1:] {
		args = append(args, noNUL(engine.Fill(word, func(f string) string {
			if v, ok := values[f]; ok {
				return v
			}
			return "{" + f + "}"
		})))
	}
	c := exec.CommandContext(ctx, w.words[0], args...)
	c.WaitDelay = time.Second
	c.Env = append(os.Environ(), w.environment(m)...)
	c.Stdin = strings.NewReader(m.Text)
	out := &limited{most: commandOutput, over: cancel}
	c.Stdout, c.Stderr = out, out
	err := c.Run()
	said := oneLine(strings.ToValidUTF8(out.kept.String(), "�"))
	if err == nil {
		if said == "" {
			said = "it ended well"
		}
		return said, nil
	}
	var exit *exec.ExitError
	p := &Problem{Where: where, Err: err}
	switch {
	case out.total > commandTooMuch:
		p.What, p.Mend = "it said more than 1 MiB, and was ended", "let it say what it did in a few words"
	case ctx.Err() == context.DeadlineExceeded:
		p.What, p.Mend = fmt.Sprintf("it did not end within %s, and was ended", commandTimeout),
			"let it do what takes long behind its back"
	case errors.As(err, &exit):
		p.What, p.Refused = fmt.Sprintf("it ended with status %d", exit.ExitCode()), true
		if said != "" {
			p.What += ", saying: " + said
		}
	case errors.Is(err, os.ErrNotExist):
		p.What, p.Mend = "there is no such program", "write where it lies from the root"
	case errors.Is(err, os.ErrPermission):
		p.What, p.Mend = "it may not be run", "chmod +x, and look at who may use its folder"
	default:
		p.What = oneLine(err.Error())
	}
	return "", p
}

// environment says in the environment what a message is about.
func (w *commandWay) environment(m *Message) []string {
	out := []string{"DIM_LANTERN_ID=" + m.ID, "DIM_LANTERN_KIND=" + m.Kind, "DIM_LANTERN_CONTACT=" + m.Contact,
		"DIM_LANTERN_SUBJECT=" + noNUL(oneLine(m.Subject)), "DIM_LANTERN_SEVERITY=" + m.Severity,
		fmt.Sprintf("DIM_LANTERN_ALERTS=%d", len(m.Alerts))}
	if len(m.Alerts) == 1 {
		a := &m.Alerts[0]
		out = append(out, "DIM_LANTERN_CHANGE="+a.Change, "DIM_LANTERN_RULE="+a.Rule, "DIM_LANTERN_ALERT="+a.Alert,
			"DIM_LANTERN_SAY="+noNUL(a.Say), "DIM_LANTERN_WHY="+noNUL(a.Why))
		for f, v := range a.Key {
			name := strings.Map(func(r rune) rune {
				if r >= 'a' && r <= 'z' {
					return r - 'a' + 'A'
				}
				if r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
					return r
				}
				return '_'
			}, f)
			out = append(out, "DIM_LANTERN_KEY_"+name+"="+noNUL(v))
		}
	}
	return out
}

// noNUL takes out what no argument and no variable can hold.
func noNUL(s string) string { return strings.ReplaceAll(s, "\x00", "") }

// limited keeps the beginning of what is written. The buffer is not embedded: whatever
// else it can do, such as reading from somewhere, would go past the limit.
type limited struct {
	kept        bytes.Buffer
	most, total int
	over        func() // ends the writer once that has written too much
}

func (l *limited) Write(p []byte) (int, error) {
	if l.total += len(p); l.total > commandTooMuch {
		l.over()
	}
	if room := l.most - l.kept.Len(); room > 0 {
		l.kept.Write(p[:min(len(p), room)])
	}
	return len(p), nil
}
