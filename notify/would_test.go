package notify

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/engine"
	"dimlantern/core/entry"
	"dimlantern/core/lang"
)

// Who would be told is said with when and on which condition, and of everybody else why not.
func TestWould(t *testing.T) {
	const text = `settings {
  zone "Europe/Dublin"
  tell office
}
contact office {
  mail  "office@gullhaven.example"
  hours mon-fri 08:00-17:00
}
contact duty {
  command "/bin/true"
  webhook "http://127.0.0.1:1/x"
  from    error
  gather  30s
}
contact chief {
  command "/bin/true"
  on      raised
}
contact away {
  command "/bin/true"
  off
}
hush night {
  rules quiet
  22:00-06:00
}
rule low {
  problem "low"
  raise   critical
  clear   by hand
  tell    duty, away
  unless  taken in 15m tell chief
}
rule quiet {
  problem "x"
  raise   warning
  clear   by hand
}
`
	s, ds := lang.Check([]*lang.File{lang.Parse("t", []byte(text))}, lang.Env{})
	require.False(t, lang.Errors(ds), "%v", ds)
	zone, err := time.LoadLocation("Europe/Dublin")
	require.NoError(t, err)
	sunday := time.Date(2026, 11, 22, 3, 0, 0, 0, zone)
	would := func(rule, change string, severity entry.Severity, at time.Time) (map[string]string, string) {
		list, quiet := Would(s, &engine.Transition{At: entry.Of(at), Change: change, Rule: rule, Severity: severity})
		out := map[string]string{}
		for _, h := range list {
			when := "-"
			if h.Due != entry.None {
				when = h.Due.Time().In(zone).Format("Mon 15:04")
			}
			out[h.Contact] = when + " " + h.Words
		}
		return out, quiet
	}
	got, quiet := would("low", engine.Raised, entry.Critical, sunday)
	assert.Empty(t, quiet)
	assert.Equal(t, map[string]string{
		"duty":   "Sun 03:00 together with what comes within 30s",
		"chief":  "Sun 03:15 if nobody has taken it by then",
		"office": "- the rule does not tell it",
		"away":   "- it is off"}, got)
	got, _ = would("low", engine.Raised, entry.Warning, sunday)
	assert.Equal(t, "- it hears from error on", got["duty"])
	got, _ = would("low", engine.Cleared, entry.Critical, sunday)
	assert.Equal(t, "- it hears only what was raised", got["chief"])
	got, quiet = would("quiet", engine.Raised, entry.Warning, sunday.Add(9*time.Hour))
	assert.Empty(t, quiet)
	assert.Equal(t, "Mon 08:00 when its hours begin; if it is still open then", got["office"])
	assert.Equal(t, "- the rule names nobody, and the settings (tell …) do not name it", got["duty"])
	_, quiet = would("quiet", engine.Raised, entry.Warning, sunday)
	assert.Contains(t, quiet, "hush")
}
