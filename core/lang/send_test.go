package lang

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// What is sent stands in the lines in which it was written, without what is decided at the centre.
func TestSend(t *testing.T) {
	text := `group pumps {
  hosts "pump-*" except "pump-09"
  kit linux
  kit pump with logs "/srv/pumpd"
  tag site "north"
}
group every { hosts "*"
  kit linux with slow 2s }
layout pump-line { plain }
layout other { plain }
source pump-log {
  files "/var/log/pump.log"
  layout pump-line
  for pumps
}
rule low {
  on pump-log
  problem "low"
  per nothing
  raise error
  tell crew
  unless mast-down open
  clear by hand
  for pumps
}
rule here {
  problem "x"
  per nothing
  raise error
  clear by hand
}
rule mast-down {
  problem "mast"
  per nothing
  raise error
  clear by hand
}
contact crew { command "/bin/true" }
`
	f := Parse("a.lantern", []byte(text))
	s, ds := Check([]*File{f, ParseKit("linux", "kits/linux/linux.lantern",
		[]byte("kit linux { needs program \"init\"\n"+
			"given slow 1s }\nsource sys { files \"/var/log/syslog\" }\n")),
		ParseKit("pump", "kits/pump/pump.lantern",
			[]byte("kit pump { needs program \"pumpd\"\ngiven logs \"/var/log\" }\n"+
				"source pumpd { files \"{logs}/d.log\" }\n"))}, Env{ErrorsOnly: true})
	require.Empty(t, ds)
	require.Len(t, s.Groups, 2)
	require.Empty(t, s.Sources, "what is sent is not read here")
	require.Equal(t, []string{"pumps"}, s.Rule("low").For)
	require.Equal(t, []string{"pumps", "every"}, s.Source("sys").For)

	in, facts := s.GroupsOf("pump-03", Facts{"os": {"linux"}})
	require.Equal(t, []string{"pumps", "every"}, in)
	require.Equal(t, []string{"north"}, facts["site"])
	in, _ = s.GroupsOf("pump-09", nil)
	require.Equal(t, []string{"every"}, in)

	sent := Send([]*File{f}, []string{"pumps", "every"})
	require.Len(t, sent, 1)
	lines, was := strings.Split(sent[0].Body, "\n"), strings.Split(text, "\n")
	require.Equal(t, `settings {`, lines[0])
	require.Empty(t, strings.TrimSpace(lines[2]), "the later group's stands")
	require.Equal(t, `  use kit pump with logs "/srv/pumpd"`, lines[3])
	require.Equal(t, `  use kit linux with slow 2s }`, lines[7])
	for i, line := range lines[8:] {
		if strings.TrimSpace(line) != "" {
			require.Equal(t, was[8+i], line)
		}
	}
	for _, gone := range []string{"tell", "unless", "rule here", "layout other", "for pumps"} {
		require.NotContains(t, sent[0].Body, gone)
	}
	require.Contains(t, sent[0].Body, "layout pump-line")
	require.Empty(t, Send([]*File{f}, []string{"none"}))
}
