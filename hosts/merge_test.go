package hosts

import (
	"strings"
	"testing"

	"dimlantern/core/lang"
	"dimlantern/folder"

	"github.com/stretchr/testify/require"
)

const ownText = `settings {
  centre may read "/var/log/**", "journal"
  use kit linux
  note "ours"
}
rule low {
  problem "own"
  per nothing
  raise notice
  clear by hand
}
rule other {
  problem "other"
  per nothing
  raise notice
  clear by hand
}
`

const sentText = `rule low {
  problem "sent"
  per nothing
  raise error
  clear by hand
}
`

// What the centre sends stands before what is written on a host; what has other names is added, or all of it is
// ignored but what it says of the centre.
func TestMerge(t *testing.T) {
	local := []folder.Text{{Name: "own.lantern", Body: ownText}, {Name: "kits/linux.lantern", Kit: "linux",
		Body: "kit linux { needs program \"init\" }\nrule disk {\n  problem \"disk\"\n  per nothing\n  raise notice\n" +
			"  clear by hand\n}\n"}}
	texts, aside := Merge(local, nil)
	require.Equal(t, local, texts)
	require.Empty(t, aside)
	r := &Revision{Texts: []folder.Text{{Name: "all.lantern", Body: sentText}}}
	texts, aside = Merge(local, r)
	s, ds := folder.CheckErrors(texts)
	require.Empty(t, ds)
	require.Equal(t, "\"sent\"", s.Rule("low").Problem.String())
	require.True(t, SentFrom(s.Rule("low").Pos))
	require.NotNil(t, s.Rule("other"))
	require.NotNil(t, s.Rule("disk"))
	require.Len(t, aside, 1)
	require.Equal(t, "low", aside[0].Name)
	for _, x := range texts {
		if x.Name == "own.lantern" { // each line stands where it stood
			require.Equal(t, strings.Count(ownText, "\n"), strings.Count(x.Body, "\n"))
			require.Equal(t, 12, s.Rule("other").Pos.Line)
		}
	}
	blocks := BlocksOf(texts, aside)
	from := map[string]string{}
	for _, b := range blocks {
		from[b.Kind+" "+b.Name] = b.From + "; " + b.Differs
	}
	require.Equal(t, "the centre; also written here: the centre's stands", from["rule low"])
	require.Equal(t, "written here; ", from["rule other"])
	require.Equal(t, "kit linux; ", from["rule disk"])

	r.Nothing = true
	texts, aside = Merge(local, r)
	s, ds = folder.CheckErrors(texts)
	require.Empty(t, ds)
	require.Nil(t, s.Rule("other"))
	require.Nil(t, s.Rule("disk"))
	require.Equal(t, []string{"/var/log/**", "journal"}, s.Hosts.May.Read, "that is the host's to say")
	require.Len(t, aside, 3, "the use of a kit, and two rules")
}

// A glob may be read where it lies in what is allowed, or where some of its files may.
func TestAllowed(t *testing.T) {
	may := &lang.May{Read: []string{"/var/log/**", "/srv/a/*.log", "journal"}}
	for glob, is := range map[string]bool{"/var/log/app.log": true, "/var/log/x/y/*.log": true, "/var/**/z.log": true,
		"/etc/shadow": false, "/srv/a/b.log": true, "/srv/a/b.txt": false, "/srv/**/x.log": true,
		"journal": false, "/var/log2/x.log": false, "/var/log/../../etc/shadow": false} {
		require.Equal(t, is, Allowed(may, glob), glob)
	}
	require.False(t, Allowed(&lang.May{}, "/var/log/x"), "nothing said is nothing allowed")
}

// Sources that the centre sends are held to what the host allows; the host's own are not.
func TestLimit(t *testing.T) {
	text := `source files-in { files "/var/log/a.log", "/etc/shadow" }
source all-out { files "/etc/passwd" }
source jrnl { channel "journal" }
source port { listen syslog udp "127.0.0.1:5514" }
source prog { command "/bin/dmesg" "-w" }
`
	check := func(name, may string) (*lang.Settings, []string) {
		texts := []folder.Text{{Name: name, Body: text}}
		if may != "" {
			texts = append(texts, folder.Text{Name: "own.lantern", Body: "settings {\n" + may + "\n}\n"})
		}
		s, ds := folder.CheckErrors(texts)
		require.Empty(t, ds)
		return s, Limit(s)
	}
	s, beyond := check("own2.lantern", "")
	require.Empty(t, beyond, "what is written on the host is the host's to say")
	require.False(t, s.Source("all-out").Off)
	s, beyond = check(FromCentre+"a.lantern", `centre may read "/var/log/**", "journal"`)
	require.Len(t, beyond, 4)
	require.Equal(t, []string{"/var/log/a.log"}, s.Source("files-in").Files)
	require.False(t, s.Source("files-in").Off)
	require.False(t, s.Source("jrnl").Off)
	for _, n := range []string{"all-out", "port", "prog"} {
		require.True(t, s.Source(n).Off, n)
	}
	s, beyond = check(FromCentre+"a.lantern", "centre may read \"/**\", \"journal\", \"listen\"\n"+
		`centre may run "/bin/dmesg"`)
	require.Empty(t, beyond)
	require.False(t, s.Source("prog").Off)
	_, beyond = check(FromCentre+"a.lantern", "")
	require.Len(t, beyond, 6)
}
