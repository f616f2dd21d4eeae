package test

import (
	"bytes"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is masked is nowhere: not in the database, in what is kept, on a screen, in
// what commands print, in drawings, nor in what the service says. Rules see it.
func TestMaskedIsNowhere(t *testing.T) {
	port, measured := freePort(t), freePort(t)
	f := newWays(t, fmt.Sprintf(`source desk {
  files  "DIR/desk.log"
  begin  oldest
  layout desk
}
source boxes {
  listen syslog udp %q
  layout box
}
layout desk {
  pattern /^(?<at>\S+) (?<account>\S+) card (?<card>\d+) (?<text>.*)$/
  time at rfc3339
  mask card keep last 4
  mask account as token
  mask /password=(?<secret>\S+)/
}
layout box {
  syslog
  find in text /card (?<card>\d+)/
  mask card
}
rule refused {
  on desk
  problem /refused (?<why>\w+)/ and card ~ /^49291111/
  per account
  raise warning
  say "card {card} of {account}: {why}"
  clear by hand
}
rule many {
  on desk
  problem "too many"
  per card
  raise error at 2 in 5m
  clear by hand
}
rule boxed {
  on boxes
  problem card ~ /^55006666/
  per card
  raise notice
  clear by hand
}
rule sesame {
  on desk
  problem /password=(?<pw>\S+)/
  per pw
  raise notice
  say "{pw} was said, by {half}"
  clear by hand
}
rule half {
  on desk
  problem /password=(?<half>.{5})/
  per account
  raise notice
  say "half of it: {half}"
  clear by hand
}
rule shared-card {
  on desk
  problem "refused"
  per nothing
  raise notice at 2 different account
  clear by hand
}
settings {
  tell duty
  measures listen %q
}
contact duty {
  command "/bin/cat"
}
measure by-account {
  on desk
  where /password=(?<pw>\S+)/ or "refused"
  per account, card, pw
  show count
}
deliver lines {
  to files "DIR/out/{account}/{card}.log"
  begin oldest
}
deliver objects {
  where /password=(?<pw>.{5})/ or has card
  to files "DIR/out/{pw}.json" as json
  begin oldest
}
deliver sent {
  to syslog udp "127.0.0.1:9"
  begin oldest
}
ask accounts { on desk
  show count, last(text)
  per account, card
  over 1h }
ask lines { on desk
  over 1h }
report whole {
  ask accounts, lines, alerts-by-rule, handover
  as html, pdf, csv, json
}
`, port, measured))
	secrets := []string{"4929111122223333", "4929555566667777", "mira-of-the-quay", "ann-of-the-lock",
		"gulls-and-fog", "gulls", "fog-and-tar", "5500666677778888"}
	at := func(s int) string {
		return time.Now().UTC().Add(time.Duration(s-60) * time.Second).Format("2006-01-02T15:04:05Z")
	}
	log := filepath.Join(f.dir, "desk.log")
	write(t, log, strings.Join([]string{
		at(0) + " mira-of-the-quay card 4929111122223333 refused expired",
		at(1) + " ann-of-the-lock card 4929111122223333 refused stolen password=gulls-and-fog",
		at(2) + " ann-of-the-lock card 4929555566667777 refused stolen",
		at(3) + " ann-of-the-lock card 4929555566667777 too many",
		at(4) + " ann-of-the-lock card 4929555566667777 too many by ann-of-the-lock, 4929555566667777",
		at(5) + " a line that fits nothing password=gulls-and-fog",
		at(6) + " ann-of-the-lock card 4929555566667777 tries password=fog-and-tar",
		""}, "\n"))
	s := f.start(t)
	eventually(t, "the service is there", func() bool {
		_, _, code := run(t, "history", "--data", f.data)
		return code == 0 && strings.Contains(f.sql(t, "SELECT group_concat(name) FROM sources"), "boxes")
	})
	conn, err := net.Dial("udp", port)
	require.NoError(t, err)
	defer conn.Close()
	fmt.Fprintf(conn, "<12>1 %s lock-1 gated - - - card 5500666677778888 refused", at(6))
	list := f.waitFor(t, "raised", 9)
	words := map[string]bool{}
	for _, x := range list {
		if x["rule"] == "sesame" {
			words[fmt.Sprint(x["key"])] = true
		}
	}
	assert.Len(t, words, 2, "what nobody sees is told apart: %v", list)
	accounts := map[string]bool{}
	for _, x := range list {
		if x["rule"] == "refused" {
			accounts[fmt.Sprint(x["key"])] = true
		}
	}
	assert.Len(t, accounts, 2, "accounts are told apart: %v", list)

	eventually(t, "somebody is told", func() bool {
		return strings.Contains(f.sql(t, "SELECT group_concat(words) FROM messages"), "Dim Lantern at ")
	})

	eventually(t, "entries are delivered", func() bool {
		out, _, _ := run(t, "deliveries", "--data", f.data)
		return strings.Contains(out, "lines to files "+f.dir+"/out/{account}/{card}.log: up to date\n  8 entries") &&
			strings.Contains(out, "/out/{pw}.json: up to date\n  8 entries")
	})

	var shown bytes.Buffer
	shown.WriteString(page(t, measured))
	require.Contains(t, shown.String(), "by_account_total{")
	term := open(t, 160, 47, "", "--settings", f.settings, "--data", f.data)
	look := func(see string, keys ...string) {
		term.keys(keys...)
		term.see(see)
		shown.WriteString(term.screen())
	}
	look("refused")
	look("token-", "Enter")
	look("what came for it", "y")
	term.keys("Escape")
	term.see("choosing alerts")
	look("ways:37", "2")
	look(" of entries", "Enter")
	look("choosing kinds", "Escape")
	look("would have", "Down")
	look("why, for this entry", "y")
	term.keys("Escape")
	term.see("choosing kinds")
	term.keys("Escape")
	term.see("choosing rules")
	look("of boxes", "3")
	look("reading entries", "Enter")
	term.keys("Escape")
	term.see("choosing origins")
	look("of desk", "Down")
	look("reading entries", "Enter")
	look("fits nothing")
	look("on desk", "4")
	look("reading the picture", "g")
	asked := func(args ...string) {
		out, errs, _ := run(t, args...)
		require.True(t, out+errs != "" || args[0] == "history", args)
		shown.WriteString(out + errs)
	}
	for _, args := range [][]string{
		{"history", "--data", f.data, "--json"}, {"history", "--data", f.data},
		{"sources", "--data", f.data, "--json"}, {"check", "--reach", f.settings},
		{"replay", "--rules", f.settings, "--as", "desk", "--json", "--svg", filepath.Join(f.dir, "out.svg"), "--pdf",
			filepath.Join(f.dir, "out.pdf"), log},
		{"fields", "--rules", f.settings, "--as", "desk", "--json", log},
		{"fields", "--rules", f.settings, "--as", "desk", "--csv", log},
		{"fields", "--rules", f.settings, "--as", "desk", "--misfits", log},
		{"handover", "--since", "1h", "--data", f.data}, {"history", "--actions", "--data", f.data, "--json"},
		{"status", "--data", f.data},
		{"report", "whole", "--now", "--data", f.data}, {"report", "whole", "--now", "--as", "json", "--data", f.data},
		{"reports", "--data", f.data, "--json"}, {"measures", "--data", f.data}, {"keep", "--data", f.data},
		{"rules", "--slow", "--data", f.data}, {"rules", "--data", f.data},
		{"near", "--rules", f.settings, "--rule", "refused", "--as", "desk", log},
		{"propose", "recovery", "--rules", f.settings, "--rule", "refused", "--as", "desk", log},
	} {
		asked(args...)
	}
	for i, question := range []string{
		"on desk over 1h", "on desk show count per account, card over 1h", "on desk show count per each field over 1h",
		`on desk where account ~ /^mira/ show count per account over 1h`,
		`on desk where /password=(?<pw>\S+)/ show count, first(pw), last(text), max(card) per pw over 1h`,
		`on desk where /password=(?<half>.{5})/ show different(half) per half every 10m over 1h`,
		`on desk where "refused" reckon long as (length(account)) show sum(long), first(account) per text over 1h`,
		`join /refused (?<why>.*)/ to "too many" by account within 1h over 1h`,
		`on desk show gaps longer than 1s per account over 1h`, "on boxes show count per card over 1h",
		"on alerts over 1h", "on alerts show count per rule, card, account over 1h",
	} {
		pic := filepath.Join(f.dir, fmt.Sprintf("ask-%d.", i))
		asked(
			"ask",
			question,
			"--settings",
			f.settings,
			"--data",
			f.data,
			"--json",
			"--svg",
			pic+"svg",
			"--pdf",
			pic+"pdf",
		)
		asked("ask", question, "--settings", f.settings, "--data", f.data)
		if strings.Contains(question, "on desk") {
			asked("ask", question, log, "--settings", f.settings, "--as", "desk", "--csv")
		}
	}
	out, _, _ := run(t, "why", "--rules", f.settings, "--rule", "refused", "--as", "desk",
		at(0)+" mira-of-the-quay card 4929111122223333 refused expired")
	assert.Contains(t, out, "hit")
	shown.WriteString(out)
	require.NotContains(t, out, secrets[0])
	require.NoError(t, s.cmd.Process.Signal(os.Interrupt))
	s.cmd.Wait()
	shown.Write(s.errs.Bytes())

	files := map[string][]byte{"what was shown": shown.Bytes()}
	require.NoError(t, filepath.WalkDir(f.dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || path == log || strings.HasPrefix(path, f.settings) || !d.Type().IsRegular() {
			return err
		}
		b, err := os.ReadFile(path)
		if strings.HasSuffix(path, ".zst") {
			z, _ := zstd.NewReader(nil)
			b, err = z.DecodeAll(b, nil)
		}
		files[path] = append([]byte(path), b...)
		return err
	}))
	kept := false
	for name, b := range files {
		kept = kept || strings.Contains(name, "kept")
		for _, secret := range secrets {
			assert.False(t, bytes.Contains(b, []byte(secret)), "%s holds %s", name, secret)
		}
	}
	assert.True(t, kept, "something is kept")
	assert.Contains(t, shown.String(), "***3333")

	// Started anew, it goes on where it was.
	f.start(t)
	appendTo(t, log, at(30)+" mira-of-the-quay card 4929555566667777 too many again\n")
	f.waitFor(t, "raised", 9)
	eventually(t, "the third hit", func() bool {
		return strings.Contains(f.sql(t, "SELECT group_concat(text) FROM hits"), "again")
	})
}
