package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/export"
	"dimlantern/hosts"
	"dimlantern/intake/spool"
	"dimlantern/query"
)

// Entries of a source with `keep at centre` are delivered to the centre, as to any other receiver, and kept there
// as entries are that exist nowhere else.

// delivers are settings with what is delivered to the centre.
func delivers(settings *lang.Settings) *lang.Settings {
	out := *settings
	out.Delivers = slices.Clone(settings.Delivers)
	for _, src := range settings.Sources {
		if src.KeepAtCentre > 0 && !src.Off && hosts.SentFrom(src.Pos) {
			out.Delivers = append(out.Delivers, &lang.Deliver{Name: "centre/" + src.Name, On: []string{src.Name},
				Begin: src.Begin, To: lang.Target{Kind: export.CentreKind}})
		}
	}
	return &out
}

// toCentre hands entries over to the centre.
func (s *Service) toCentre(ctx context.Context, source string, entries []export.CentreEntry) error {
	m := s.member.Load()
	if m == nil {
		return errors.New("this machine has joined no centre any more")
	}
	k, size := &hosts.KeptEntries{Source: source}, 0
	for _, x := range entries {
		e := hosts.KeptEntry(x)
		e.Text = strings.ToValidUTF8(e.Text, "\uFFFD")
		e.Text = e.Text[:min(len(e.Text), match.MaxLine)]
		n := 6*len(e.Text) + 200 // at most: a control character is written in six
		if size+n > mostKeptBytes && len(k.Entries) > 0 {
			if err := m.Keep(ctx, k); err != nil {
				return err
			}
			k.Entries, size = nil, 0
		}
		k.Entries, size = append(k.Entries, e), size+n
	}
	return m.Keep(ctx, k)
}

// mostKeptBytes is how much is handed over at once at most, as it is written, in bytes; an entry alone stays below what
// a message may have.
const mostKeptBytes = 4 << 20

// mostKeptAtOnce is how many entries a host hands over at once at most.
const mostKeptAtOnce = 5000

// KeepEntries is part of hosts.Office.
func (n *centre) KeepEntries(id, name string, k *hosts.KeptEntries) error {
	src := n.s.window.Now().Settings.Source(k.Source)
	if src == nil || src.KeepAtCentre == 0 {
		return fmt.Errorf("the settings here keep nothing of the source %s: roll them out once more", k.Source)
	}
	if len(k.Entries) > mostKeptAtOnce {
		return fmt.Errorf("%d entries at once are too many", len(k.Entries))
	}
	for len(k.Entries) > 0 {
		origin, some := k.Entries[0].Origin, 1
		for some < len(k.Entries) && k.Entries[some].Origin == origin {
			some++
		}
		o := spool.Origin{Source: k.Source, Host: name, Way: keptWay(id, origin)}
		if err := n.keepSome(o, k.Entries[:some]); err != nil {
			return err
		}
		k.Entries = k.Entries[some:]
	}
	return nil
}

// keptWay is the way by which the entries of an origin of a host came that are kept here.
func keptWay(id, origin string) string {
	sum := sha256.Sum256([]byte(origin))
	base := filepath.Base(origin)
	return query.KeptFrom + id + " " + base[:min(len(base), 40)] + "-" + hex.EncodeToString(sum[:4])
}

// keepSome keeps entries of one origin that were not kept before.
func (n *centre) keepSome(o spool.Origin, entries []hosts.KeptEntry) error {
	n.keeping.Lock()
	defer n.keeping.Unlock()
	last, known := n.lastKept[o]
	if !known {
		if e, ok := n.s.ways.kept.Last(o); ok {
			last = e.Peer
		}
	}
	prefix, number := keptNumber(last)
	var list []spool.Entry
	for i := range entries {
		x := &entries[i]
		p, at := keptNumber(x.ID)
		if at < 0 || strings.ContainsAny(x.ID, " \n\v") || len(x.ID) > 200 {
			return fmt.Errorf("an entry that was to be kept is none: its identifier is %q", x.ID)
		}
		if p == prefix && at <= number {
			continue
		}
		prefix, number, last = p, at, x.ID
		when := x.At
		if when == entry.None {
			when = entry.Of(time.Now())
		}
		text := match.Keepable([]byte(x.Text)) // which is cut to what a line may have
		list = append(list, spool.Entry{Arrived: when, Peer: x.ID, Text: text})
	}
	if len(list) == 0 {
		return nil
	}
	if _, err := n.s.ways.kept.Write(o, list, time.Now()); err != nil {
		return err
	}
	if n.lastKept == nil {
		n.lastKept = map[spool.Origin]string{}
	}
	n.lastKept[o] = last
	return nil
}

// keptNumber cuts an identifier into what it begins with and its number, which is -1 where there is none.
func keptNumber(id string) (prefix string, number int64) {
	i := strings.LastIndexByte(id, '-')
	number, err := strconv.ParseInt(id[i+1:], 10, 64)
	if i < 0 || err != nil {
		return "", -1
	}
	return id[:i], number
}
