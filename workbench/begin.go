package workbench

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"time"

	"dimlantern/core/author"

	"dimlantern/api"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
	"dimlantern/core/match"
	"dimlantern/core/trial"
	"dimlantern/folder"
	"dimlantern/intake"
	"dimlantern/query"
)

// BeginRule proposes a rule about an entry, and writes it where that is asked for.
func (s *Workbench) BeginRule(_ context.Context, q api.BeginQuery) (*api.Begun, error) {
	sn := s.Window.Now()
	settings := sn.Settings
	o := sn.Origin(q.Origin)
	if o == nil {
		return nil, query.NoOrigin(q.Origin)
	}
	src, path, host := o.Source, o.Newest(), o.Host
	if strings.TrimSpace(q.Raw) == "" {
		return nil, fmt.Errorf("a rule begins with an entry: choose one")
	}
	plan := match.NewPlan(settings, src, nil, time.Local)
	sample, err := intake.Tail(path, plan, entry.Of(time.Now().Add(24*time.Hour)), query.EntriesSize)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", path, folder.Reason(err))
	}
	text, why := author.Rule(settings, src, plan, sample, q.Raw, q.Severity, entry.Of(time.Now()))
	b := &api.Begun{Name: filepath.Join(sn.Folder(), nameOf(text)+".lantern"), Text: text, Why: why}
	if err := tryBegun(b, settings, src, path, host, sample); err != nil {
		return nil, err
	}
	if q.Write {
		if err := folder.WriteNew(b.Name, b.Text); err != nil {
			return nil, err
		}
		b.Done = true
		s.Reload()
	}
	return b, nil
}

func nameOf(rule string) string { return strings.Fields(rule)[1] }

// try runs the rule over the newest entries of the log.
func tryBegun(b *api.Begun, s *lang.Settings, src *lang.Source, path, host string, sample []byte) error {
	f := lang.Parse("new", []byte(b.Text))
	with := *s
	with.Rules = nil
	files := []*lang.File{f}
	own, ds := lang.Check(append(files, lang.Parse("its source",
		[]byte(fmt.Sprintf("source %s { files \"/x\" }", src.Name)))), lang.Env{Time: layout.CheckTime})
	if lang.Errors(ds) {
		return fmt.Errorf("no rule can be made of this entry: %s", ds[0].What)
	}
	with.Rules = own.Rules
	plain := *src
	plain.Encoding = "utf-8" // as Tail gives it
	sum, err := trial.Replay(&with, []*trial.Input{{Source: &plain, Path: path, Host: host,
		Files: []io.Reader{bytes.NewReader(sample)}, Near: entry.Of(time.Now())}},
		trial.Options{Zone: time.Local})
	b.Hits, b.Looked, b.Raised = sum.Hits, sum.Entries, sum.Raised
	return err
}
