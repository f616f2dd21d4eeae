package lang

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const pumpKit = `kit pump {
  note  "pumps"
  needs program "pumpd" or files "{logs}/pump-*.log", "/srv/pumps/*.log"
  needs channel journal
  given logs "/var/log/pumps"
  given slow 5s
  given few 3
}
source pump-log { files "{logs}/pump-*.log" }
source pump-old { files "{logs}/old/*.log" }
layout pump-line { pattern /^(?<took>\d+)s (?<text>.*)$/  }
rule pump-slow {
  on      pump-log, pump-old
  problem took > given slow and not /{logs}/
  per     host
  raise   warning at given few in 5m
  clear   after 1h quiet
  say     "{logs} is slow"
  unless  pump-stopped open
  expect "x" {
    at 10:00 "a"
    then nothing
  }
}
rule pump-stopped {
  on     pump-old
  awaits "beat"
  raise  error after 1h without
}
ask pump-times { on pump-old  show count }
ask pump-all { on pump-log  show count }
report pump-week { ask pump-times, pump-all }
`

// use reads settings that use the kit, with other kits.
func use(t *testing.T, settings string, kits ...string) (*Settings, []*File, []Diagnostic) {
	t.Helper()
	files := []*File{Parse("s.lantern", []byte(settings)), ParseKit("pump", "kit pump/pump.lantern", []byte(pumpKit))}
	for _, k := range kits {
		name := strings.Fields(k)[1]
		files = append(files, ParseKit(name, "kit "+name+"/"+name+".lantern", []byte(k)))
	}
	s, ds := Check(files, Env{Kits: []string{"harbour"}})
	return s, files, ds
}

// The kit's values stand where its texts and numbers name them: in the quoted texts of sources, in the numbers of
// rules; never in patterns and in what is said.
func TestKitValues(t *testing.T) {
	s, _, ds := use(t, `settings { use kit pump with logs "/srv/pumps", slow 2s }`)
	require.Empty(t, ds)
	require.Equal(t, []string{"/srv/pumps/pump-*.log"}, s.Source("pump-log").Files)
	r := s.Rule("pump-slow")
	require.Equal(t, "took > 2s and not re`{logs}`", strings.ReplaceAll(r.Problem.String(), "/{logs}/", "re`{logs}`"))
	require.Equal(t, 3, r.Raises[0].At)
	require.Equal(t, "{logs} is slow", r.Say)
	require.Empty(t, r.Expects, "they hold for the kit's own values")
	require.Equal(t, "pump", s.KitOf(r.Pos))
	k := s.Kit("pump")
	require.Equal(t, []Need{
		{{"program", "pumpd"}, {"files", "{logs}/pump-*.log"}, {"files", "/srv/pumps/*.log"}},
		{{"channel", "journal"}},
	}, k.Needs)
	require.Equal(t, "/srv/pumps/pump-*.log", k.Fill(k.Needs[0][1]))
	require.True(t, k.Given[0].Set())
	require.False(t, k.Given[2].Set())
}

// A block of the settings stands in the place of the kit's; what is left out goes, with all that looks at nothing
// else, and without what names it.
func TestKitAside(t *testing.T) {
	s, files, ds := use(t, `settings { use kit pump but not pump-old }
source pump-log { files "/elsewhere/*.log" }`)
	require.Empty(t, ds)
	require.Equal(t, []string{"/elsewhere/*.log"}, s.Source("pump-log").Files)
	require.Nil(t, s.Source("pump-old"))
	require.Nil(t, s.Rule("pump-stopped"), "it looked at nothing else")
	require.Equal(t, []string{"pump-log"}, s.Rule("pump-slow").On)
	require.Nil(t, s.Rule("pump-slow").Unless)
	require.Equal(t, []string{"pump-all"}, s.Report("pump-week").Asks)
	whys := map[string]string{}
	for _, a := range s.Asides {
		whys[a.Kind+" "+a.Name] = a.Why
	}
	require.Equal(t, map[string]string{"source pump-log": "the settings have their own",
		"source pump-old": "left out by the settings", "rule pump-stopped": "all that it looks at is left out",
		"ask pump-times": "all that it looks at is left out"}, whys)
	placed, aside := Together(files, Env{})
	require.Equal(t, s.Asides, aside)
	for _, p := range placed {
		assert.NotContains(t, p.Text, "given slow", p.Name)
	}
}

// What is wrong with the use of a kit is told where it is used.
func TestKitMistakes(t *testing.T) {
	for _, x := range []struct{ settings, code, at, says string }{
		{`settings { use kit pumps }`, "unknown-name", "1:20", "did you mean: pump"},
		{`settings { use kit harbor }`, "unknown-name", "1:20", "did you mean: harbour"},
		{`settings { use kit pump with log "/x" }`, "unknown-name", "1:30", "did you mean: logs"},
		{`settings { use kit pump with slow 3 }`, "wrong-kind", "1:35", "is a duration, and 3 is a number"},
		{`settings { use kit pump with logs 3s }`, "wrong-kind", "1:35", `logs "/var/log/pumps"`},
		{`settings { use kit pump but not pump-slwo }`, "unknown-name", "1:33", "did you mean: pump-slow"},
		{"settings {\n use kit pump\n use kit pump\n}", "twice", "3:10", "used twice"},
		{`settings { use pump }`, "syntax", "1:16", "write: use kit NAME"},
		{`settings { use kit pump with logs }`, "incomplete", "1:34", "a text, a number or a duration"},
		{"settings { use kit pump }\nkit pumps { needs program \"x\" }", "not-here", "2:1", "kits/pumps"},
		{"settings { use kit pump }\nsource mine {\n files \"/var/log/pumps/pump-*.log\"\n begin oldest\n}",
			"read-twice", "1:20",
			"mine"},
		{"settings { use kit pump }\ncontact crew { command \"/x\" }", "tells-nobody", "1:20", "2 rules"},
	} {
		_, _, ds := use(t, x.settings)
		require.Len(t, ds, 1, x.settings)
		assert.Equal(t, x.code, ds[0].Code, x.settings)
		assert.Equal(t, "s.lantern:"+x.at, ds[0].Pos.String(), x.settings)
		assert.Contains(t, ds[0].String(), x.says)
	}
	_, ds := Check([]*File{ParseKit("k", "k", []byte("kit k {\nneeds program \"x\"\ngiven logs \"/a\"\n}\n"+
		"settings { zone \"UTC\" }\nsource s { files \"/x\" }\nrule r {\n on s\n problem took > given slo\n "+
		"raise error at "+
		"given logs in 5m\n clear after 1h quiet\n}"))}, Env{ErrorsOnly: true})
	var codes []string
	for _, d := range ds {
		codes = append(codes, d.Code)
	}
	require.Equal(t, []string{"not-here", "unknown-name", "wrong-kind"}, codes[:3])
}

// Kits that have the same source share it: it is one. Where they say different things in it, the first stands, and
// that is told.
func TestKitsShareASource(t *testing.T) {
	const tide = `kit tide {
needs program "tided"
given logs "/var/log/pumps"
}
source pump-log { files "{logs}/pump-*.log" }
rule tide-high {
on pump-log
problem "high"
per host
raise error
clear after 1h quiet
}
`
	s, _, ds := use(t, "settings {\n use kit pump\n use kit tide\n}", tide)
	require.Empty(t, ds)
	require.Len(t, s.Sources, 2)
	require.Equal(t, []string{"pump-log"}, s.Rule("tide-high").On)

	s, _, ds = use(t, "settings {\n use kit pump\n use kit tide with logs \"/tides\"\n}", tide)
	require.Len(t, ds, 1)
	require.Equal(t, "kits-differ", ds[0].Code)
	require.Equal(t, "s.lantern:3:10", ds[0].Pos.String())
	require.Equal(t, []string{"/var/log/pumps/pump-*.log"}, s.Source("pump-log").Files)
}

// Sources that say the same read once, however they are called: those of two kits, and one of a kit and one of the
// settings. Who looked at the one looks at the other.
func TestSameFilesAreReadOnce(t *testing.T) {
	const ebb = `kit ebb {
needs program "ebbd"
}
source ebb-log { files "/var/log/pumps/pump-*.log" }
source ebb-own { files "/var/log/ebb.log" }
rule ebb-low {
on ebb-log, ebb-own
problem "low"
per host
raise error
clear after 1h quiet
}
`
	s, _, ds := use(t, "settings {\n use kit pump\n use kit ebb\n}\nrule mine {\n on ebb-log, pump-log\n "+
		"problem \"x\"\n"+
		" per host\n raise error\n clear after 1h quiet\n expect \"x\" {\n  at 10:00 \"y\"\n  then nothing\n "+
		"}\n}\n", ebb)
	require.Empty(t, ds)
	require.Nil(t, s.Source("ebb-log"))
	require.Equal(t, []string{"pump-log", "ebb-own"}, s.Rule("ebb-low").On)
	require.Equal(t, []string{"pump-log"}, s.Rule("mine").On)

	s, _, ds = use(t, "settings { use kit pump }\nsource tides { files `/var/log/pumps/pump-*.log` }\n")
	require.Empty(t, ds)
	require.Nil(t, s.Source("pump-log"))
	require.Equal(t, []string{"tides", "pump-old"}, s.Rule("pump-slow").On)
	require.Contains(t, s.Asides[0].Why, "tides")
}

// However a kit is used, its blocks are those that are at work, those that are put aside, and no others; and
// nothing that stays names anything that is gone.
func TestKitIsDividedWhole(t *testing.T) {
	all := []string{"pump-log", "pump-old", "pump-line", "pump-slow", "pump-stopped", "pump-times", "pump-all",
		"pump-week"}
	rapid.Check(t, func(t *rapid.T) {
		but := rapid.SliceOfDistinct(rapid.SampledFrom(all), func(s string) string { return s }).Draw(t, "but")
		clause := "use kit pump"
		if len(but) > 0 {
			clause += " but not " + strings.Join(but, ", ")
		}
		files := []*File{Parse("s", []byte("settings {\n"+clause+"\n}")), ParseKit("pump", "k", []byte(pumpKit))}
		placed, aside := Together(files, Env{})
		seen := map[string]bool{}
		for _, p := range placed {
			if p.Kind != "settings" {
				seen[p.Name] = true
			}
		}
		for _, a := range aside {
			require.False(t, seen[a.Name], "%s is at work and put aside", a.Name)
			seen[a.Name] = true
		}
		require.Len(t, seen, len(all))
		_, ds := Check(files, Env{ErrorsOnly: true})
		require.Empty(t, ds)
	})
}
