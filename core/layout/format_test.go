package layout_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/leodido/go-syslog/v4/rfc5424"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dimlantern/core/entry"
	"dimlantern/core/lang"
	"dimlantern/core/layout"
)

func format(name string) *layout.Divider {
	return &layout.Divider{Layout: layout.Compile((&lang.Settings{}).Layout(name), time.UTC, nil)}
}

// divided is a division in one line: fields in their order, and the time.
func divided(d *layout.Divider, line string, near entry.Instant) string {
	x := d.Divide([]byte(line), near)
	if !x.Fits {
		return "misfit"
	}
	var b strings.Builder
	for _, f := range x.Fields {
		if f.Name != "at" {
			fmt.Fprintf(&b, "%s=%s|", f.Name, f.Value)
		}
	}
	if x.Timed {
		b.WriteString(x.At.String())
	}
	return b.String()
}

func TestSyslogAsItIsSent(t *testing.T) {
	near := entry.Of(time.Date(2026, 11, 24, 6, 0, 0, 0, time.UTC))
	d := format("syslog")
	for line, want := range map[string]string{
		`<165>1 2026-11-24T05:32:28.114Z lock-3 gated 418 ID47 [a@32473 gate="a1" why="says \"no\""][b@32473 ` +
			`gate="b"] ` + "\xef\xbb\xbf" + `refused`: "facility=local4|level=notice|host=lock-3|program=gated|" +
			"pid=418|msgid=ID47|gate=a1|a-32473.gate=a1|why=says \"no\"|a-32473.why=says \"no\"|sd-gate=b|" +
			"b-32473.gate=b|text=refused|2026-11-24T05:32:28.114Z",
		`<34>1 - - - - - - bare`: "facility=auth|level=critical|text=bare|",
		`<34>1 - - - - - -`:      "facility=auth|level=critical|text=|",
		`<34>Nov 24 05:32:28 lock-3 su[17]: refused for /dev/pts/8`: "facility=auth|level=critical|host=lock-3|" +
			"program=su|pid=17|text=refused for /dev/pts/8|2026-11-24T05:32:28.000Z",
		`<13>Nov  4 05:32:28 lock-3 gated: x`: "facility=user|level=notice|host=lock-3|program=gated|" +
			"text=x|2026-11-04T05:32:28.000Z",
		`<13>Nov 24 05:32:28 gated[4]: no host`: "facility=user|level=notice|program=gated|pid=4|" +
			"text=no host|2026-11-24T05:32:28.000Z",
		`<13>Nov 24 05:32:28.114 fe80::1 gated: x`: "facility=user|level=notice|host=fe80::1|" +
			"program=gated|text=x|2026-11-24T05:32:28.114Z",
		`<13>Nov 24 2026 05:32:28 lock-3 gated: x`: "facility=user|level=notice|host=lock-3|program=gated|" +
			"text=x|2026-11-24T05:32:28.000Z",
		`<13>2026-11-24T05:32:28+01:00 lock-3 gated[1]: x`: "facility=user|level=notice|host=lock-3|program=gated|" +
			"pid=1|text=x|2026-11-24T04:32:28.000Z",
		`<189>127: *Nov 24 05:32:28.114: link-3 is down`: "facility=local7|level=notice|text=link-3 is " +
			"down|2026-11-24T05:32:28.114Z",
		`<13>no time at all`: "facility=user|level=notice|text=no time at all|",
		`Nov 24 05:32:28 lock-3 gated[4]: as in a file`: "host=lock-3|program=gated|pid=4|text=as in " +
			"a file|2026-11-24T05:32:28.000Z",
		`no syslog`: "misfit", ``: "misfit", `<999>x`: "misfit", `<13`: "misfit", `<034>x`: "misfit",
	} {
		assert.Equal(t, want, divided(d, line, near), line)
	}
}

// What RFC 5424 allows is read as another reader of its grammar reads it.
func FuzzSyslog(f *testing.F) {
	for _, s := range []string{`<165>1 2026-11-24T05:32:28.114Z lock-3 gated 418 ID47 [a@32473 gate="a1" ` +
		`why="says \"no\""] refused`, `<34>1 - - - - - - x`,
		`<0>1 2026-11-24T05:32:28-07:00 h p 1 - [x y="\]\\"][z]`, `<13>Nov 24 05:32:28 lock-3 gated[4]: x`,
		"<191>1 2026-02-29T05:32:28Z - - - - - \xef\xbb\xbf\xff"} {
		f.Add(s)
	}
	parser := rfc5424.NewParser()
	f.Fuzz(func(t *testing.T, s string) {
		d := format("syslog")
		got := d.Divide([]byte(s), 0)
		m, err := parser.Parse([]byte(s))
		if err != nil || m == nil || !strings.HasPrefix(s[strings.IndexByte(s, '>')+1:], "1 ") {
			return
		}
		want := m.(*rfc5424.SyslogMessage)
		if ts := want.Timestamp; ts != nil && (ts.Year() < 1700 || ts.Year() > 2260) {
			return // no instant of ours
		}
		require.True(t, got.Fits, "%q", s)
		field := func(name string) string {
			for _, f := range got.Fields {
				if f.Name == name {
					return f.Value
				}
			}
			return ""
		}
		same := func(name string, v *string) {
			if v != nil {
				assert.Equal(t, strings.ToValidUTF8(*v, "\uFFFD"), field(name), "%s of %q", name, s)
			} else if name != "text" {
				assert.Empty(t, field(name), "%s of %q", name, s)
			}
		}
		if want.StructuredData == nil { // a parameter may have any name
			same("host", want.Hostname)
			same("program", want.Appname)
			same("pid", want.ProcID)
			same("msgid", want.MsgID)
		}
		if want.Message != nil {
			text := strings.TrimPrefix(*want.Message, "\xef\xbb\xbf")
			assert.Equal(t, strings.ToValidUTF8(text, "\uFFFD"), field("text"), "%q", s)
		}
		assert.Equal(t, want.Timestamp != nil, got.Timed, "%q", s)
		if want.Timestamp != nil && got.Timed {
			assert.Equal(t, entry.Of(*want.Timestamp), got.At, "%q", s)
		}
	})
}

const gateEvent = `<Event xmlns='http://schemas.microsoft.com/win/2004/08/events/event'><System><Provider ` +
	`Name='Harbour-Control'/><EventID Qualifiers='0'>5120</EventID><Version>0</Version><Level>2</Level><Task>` +
	`12</Task><Opcode>0</Opcode><Keywords>0x8010</Keywords><TimeCreated ` +
	`SystemTime='2026-11-24T05:32:28.1140000Z'/><EventRecordID>77</EventRecordID><Execution ProcessID='4' ` +
	`ThreadID='88'/><Channel>Harbour-Control/Access</Channel><Computer>ctl-1</Computer><Security ` +
	`UserID='S-1-5-7'/></System><EventData><Data Name='Account'>keeper &amp; co</Data><Data Name='level'>9</Data>` +
	`<Data>unnamed</Data></EventData><RenderingInfo Culture='en'><Message>The gate refused keeper &amp; co. It ` +
	`was shut.&#10;More of it.</Message><Task>Access</Task></RenderingInfo></Event>`

func TestEventXML(t *testing.T) {
	d := format("event-xml")
	want := "provider=Harbour-Control|channel=Harbour-Control/Access|event=5120|level=error|category=Access|" +
		"host=ctl-1|record=77|pid=4|thread=88|opcode=0|keywords=0x8010|account-id=S-1-5-7|account-name=keeper & " +
		"co|account=%s|Account=keeper & co|data-level=9|data-3=unnamed|text=%s|2026-11-24T05:32:28.114Z"
	assert.Equal(t, fmt.Sprintf(want, "keeper & co", "The gate refused keeper & co. It was shut.\nMore of it."),
		divided(d, gateEvent, 0))
	d.Layout.Tell(true, "both")
	assert.Equal(t, fmt.Sprintf(want, "keeper & co (S-1-5-7)", "The gate refused keeper & co."),
		divided(d, gateEvent, 0))
	d.Layout.Tell(true, "id")
	assert.Contains(t, divided(d, gateEvent, 0), "|account=S-1-5-7|")
	for _, bad := range []string{"", "<Event>", "<Event></Event>", "<x/>", gateEvent[:300],
		strings.Repeat("<Event>", 5000), "{}"} {
		assert.Equal(t, "misfit", divided(d, bad, 0), "%.80q", bad)
	}
}

func TestJournal(t *testing.T) {
	d := format("journal")
	assert.Equal(t, "cursor=s=1;i=2|level=error|host=lock-3|program=gated|pid=418|unit=gated.service|"+
		"code-file=a.c|text=first\nsecond|2026-11-24T05:32:28.114Z",
		divided(d, `{"__CURSOR":"s=1;i=2","__REALTIME_TIMESTAMP":"1795498348114000","PRIORITY":"3",`+
			`"_HOSTNAME":"lock-3","SYSLOG_IDENTIFIER":"gated","_PID":"418","_SYSTEMD_UNIT":"gated.service",`+
			`"CODE_FILE":"a.c","MESSAGE":["first","second"]}`, 0))
	assert.Equal(t, "comm=cat|program=cat|text=hé|", divided(d, `{"MESSAGE":[104,195,169],"_COMM":"cat"}`, 0))
	for _, bad := range []string{"", "{", "[]", `{"a":}`, "x"} {
		assert.Equal(t, "misfit", divided(d, bad, 0), bad)
	}
}

// No format fails on any bytes, and what it gives can be shown.
func FuzzFormats(f *testing.F) {
	f.Add(gateEvent)
	f.Add(`{"MESSAGE":"x","PRIORITY":"3"}`)
	f.Add(`<13>Nov 24 05:32:28 lock-3 gated[4]: x`)
	f.Fuzz(func(t *testing.T, s string) {
		for _, name := range []string{"syslog", "event-xml", "journal"} {
			for _, x := range format(name).Divide([]byte(s), 0).Fields {
				assert.Regexp(t, `^[A-Za-z][\w.-]*$`, x.Name, "%s of %q", name, s)
			}
		}
	})
}
