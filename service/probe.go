package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"sort"
	"strings"
	"time"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/match"
	"dimlantern/intake"
	"dimlantern/intake/channel"
	"dimlantern/intake/journal"
	"dimlantern/intake/listen"
	"dimlantern/intake/program"
)

// Probe tries the sources of settings for real, without a service.
func Probe(s *lang.Settings) []intake.Reach {
	host, _ := os.Hostname()
	var out []intake.Reach
	now := time.Now()
	for _, src := range s.Sources {
		if !src.Off && src.Kept() {
			out = append(out, probeWay(src, host)...)
		} else if !src.Off {
			out = append(out, intake.Probe(src, match.NewPlan(s, src, nil, time.Local), host, now)...)
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Source < out[j].Source })
	return out
}

// probeWay tries a way in of which nothing lies in files.
func probeWay(src *lang.Source, host string) []intake.Reach {
	reach := func(origin, words, mend, well string, newest time.Time) intake.Reach {
		r := intake.Reach{Source: src.Name, Origin: origin, OK: words == "", Reached: words == "", Words: words,
			Mend:  mend,
			First: entry.None, Newest: entry.None}
		if r.OK {
			r.Words = well
		}
		if !newest.IsZero() {
			r.Newest = entry.Of(newest)
		}
		return r
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	var out []intake.Reach
	switch {
	case len(src.Command) > 0:
		words, mend := "", ""
		if _, err := exec.LookPath(src.Command[0]); err != nil {
			words = fmt.Sprintf("%s cannot be run: %v", src.Command[0], errors.Unwrap(err))
			mend = "run it by hand: " + strings.Join(src.Command, " ")
		}
		return []intake.Reach{reach(host+":"+program.Way(src.Command), words, mend, "it is a program that can be run",
			time.Time{})}
	case src.Input:
		return []intake.Reach{reach(host+":input", "", "", "it is what is piped into dimlantern watch", time.Time{})}
	case len(src.Channels) > 0:
		places := src.At
		if len(places) == 0 {
			places = []string{""}
		}
		for _, place := range places {
			out = append(out, probeChannels(ctx, src, place, host, reach)...)
		}
		return out
	}
	for _, l := range src.Listen {
		words, mend := listen.Try(l)
		out = append(out, reach(l.Proto+" "+l.Address, words, mend, "it can be opened", time.Time{}))
	}
	return out
}

// probeChannels tries the channels of a source in one of their places.
func probeChannels(ctx context.Context, src *lang.Source, place, host string,
	reach func(origin, words, mend, well string, newest time.Time) intake.Reach) []intake.Reach {
	called := func(way string) string {
		if len(src.At) > 1 {
			return lang.WayAt(way, place)
		}
		return way
	}
	if src.Journal() {
		newest, words, mend := journal.Look(ctx, place)
		return []intake.Reach{reach(called(host+":journal"), words, mend, "it can be read", newest)}
	}
	all, err := channel.List(ctx, place)
	if err != nil {
		return []intake.Reach{reach("", err.Error(), "", "", time.Time{})}
	}
	var out []intake.Reach
	for _, name := range src.Channels {
		x, words, ok := channel.Find(all, name)
		if ok {
			words = x.Words
		}
		out = append(out, reach(called(name), words, x.Mend, x.Say(), x.Newest))
	}
	return out
}
