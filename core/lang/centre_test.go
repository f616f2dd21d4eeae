package lang_test

import (
	"testing"

	"dimlantern/core/lang"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Hosts reach a centre at a port of its own or over a cluster, which is what stands in the documents; everything else
// is refused with one message.
func TestWhereHostsReachACentre(t *testing.T) {
	hosts := func(text string) lang.Hosts {
		s, ds := check(text)
		require.Empty(t, ds, text)
		return s.Hosts
	}
	assert.Equal(t, ":7422", hosts(`settings { centre listen ":7422" }`).Listen)
	assert.Equal(t, "mast:7422", hosts(`settings { centre listen "mast:7422" }`).Listen)
	h := hosts(`settings { centre through "tls://a:4222,tls://b" creds "/etc/centre.creds" }`)
	assert.Equal(t, []string{"tls://a:4222", "tls://b:4222"}, h.Through)
	assert.Equal(t, "/etc/centre.creds", h.Creds)
	assert.True(t, h.IsCentre())
	none := hosts(`settings { note "alone" }`)
	assert.False(t, none.IsCentre())
	s, ds := lang.Check([]*lang.File{lang.Parse("/srv/rules/all.lantern",
		[]byte(`settings { centre through "tls://a" creds "centre.creds" }`))}, lang.Env{})
	require.Empty(t, ds)
	assert.Equal(t, "/srv/rules/centre.creds", s.Hosts.Creds, "it lies beside the settings")

	for text, code := range map[string]string{
		`centre listen "7422"`:                                                             "bad-address",
		`centre listen ":"`:                                                                "bad-address",
		`centre listen ":99999"`:                                                           "bad-address",
		`centre through "nats://a:4222" creds "/x"`:                                        "bad-address",
		`centre through "a:4222" creds "/x"`:                                               "bad-address",
		`centre through "" creds "/x"`:                                                     "bad-address",
		`centre through "tls://a:x" creds "/x"`:                                            "bad-address",
		`centre through "tls://u:p@a" creds "/x"`:                                          "bad-address",
		`centre through "tls://a,nats://b" creds "/x"`:                                     "bad-address",
		`centre through "tls://a"`:                                                         "incomplete",
		`centre through "tls://a" "/x"`:                                                    "syntax",
		"centre through \"tls://a\" creds \"/x\"\ncentre listen \":1\"":                    "does-not-apply",
		"centre through \"tls://a\" creds \"/x\"\ncentre through \"tls://b\" creds \"/x\"": "twice",
	} {
		_, ds := check("settings {\n" + text + "\n}")
		var codes []string
		for _, d := range ds {
			codes = append(codes, d.Code)
		}
		assert.Equal(t, []string{code}, codes, "%s\n%v", text, ds)
	}
}
