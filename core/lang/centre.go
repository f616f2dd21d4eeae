package lang

import (
	"strings"
	"time"
)

// Hosts is what settings say of many machines.
type Hosts struct {
	Listen string // where a centre waits for hosts, HOST:PORT; "" where it does not
	// Through are the brokers of a cluster over which a centre speaks with hosts, tls://HOST:PORT each; none where
	// it does not. Creds is the file that lets the centre in.
	Through []string
	Creds   string
	Wait    time.Duration // how long a silent host is waited for by rules that join hosts; 0 is DefaultWait
	// May is what the centre may do to this host; nil where that is not said.
	May *May
	// CutOff and CutOffTell are after which time without a centre a host tells whom by itself.
	CutOff     time.Duration
	CutOffTell []string
	People     []People
}

// IsCentre tells whether hosts can join this machine.
func (h *Hosts) IsCentre() bool { return h.Listen != "" || len(h.Through) > 0 }

// DefaultWait is how long a host that says nothing is waited for by rules that join hosts.
const DefaultWait = 10 * time.Second

// Waits is how long a host that says nothing is waited for.
func (h *Hosts) Waits() time.Duration {
	if h.Wait == 0 {
		return DefaultWait
	}
	return h.Wait
}

// May is what a host lets a centre do to it.
type May struct {
	Read    []string // globs of files, with **, and the words journal, channels and listen
	Run     []string // commands by their names
	Nothing bool     // that it may run nothing has been said
}

// People are what a group of the system's users may do.
type People struct {
	Group string
	Right string   // look, handle or change
	For   []string // groups of hosts; nil is all
}

// Rights are what people may do, the least first.
var Rights = []string{"look", "handle", "change"}

func readCentre(c *cursor, node any) {
	h := &node.(*Settings).Hosts
	const mend = `write: centre listen ":7422"; centre wait 10s; ` +
		`centre may read "/var/log/**", "journal"; or centre may run nothing`
	if h.May == nil && len(c.toks) > 1 && c.toks[1].src == "may" {
		h.May = &May{}
	}
	at := c.toks[0]
	switch t := c.next(); {
	case t.is("listen"):
		if h.Listen != "" {
			c.fail(at, "twice", "where hosts reach the centre is written twice", "keep one of them")
		}
		h.Listen = c.listenPort(":7422")
	case t.is("through"):
		if len(h.Through) > 0 {
			c.fail(at, "twice", "the cluster that the centre goes through is written twice", "keep one of them")
		}
		h.Through = c.brokers()
		if !c.accept("creds") {
			c.expected(c.peek(), "creds", throughMend)
		}
		h.Creds = c.besideSettings("a file with what lets the centre in")
	case t.is("wait"):
		h.Wait = c.duration("a time")
	case t.is("may"):
		switch what := c.next(); {
		case what.is("read"):
			for {
				h.May.Read = append(h.May.Read, c.text(`a glob of files, "journal", "channels" or "listen"`))
				if !c.accept(",") {
					break
				}
			}
		case what.is("run"):
			if c.accept("nothing") {
				h.May.Nothing = true
				break
			}
			for {
				h.May.Run = append(h.May.Run, c.text("a command's name"))
				if !c.accept(",") {
					break
				}
			}
		default:
			c.expected(what, "read or run", mend)
		}
	default:
		c.expected(t, "listen, through, wait or may", mend)
	}
	if h.Listen != "" && len(h.Through) > 0 && !c.failed {
		c.fail(at, "does-not-apply", "a centre brings a broker or goes through a cluster, not both",
			"keep centre listen for one machine, or centre through for a cluster that is there")
	}
	c.done(mend)
}

func readCutOff(c *cursor, node any) {
	h := &node.(*Settings).Hosts
	const mend = "write: cut off after 10m tell CONTACT"
	if !c.accept("off") || !c.accept("after") {
		c.expected(c.peek(), "off after", mend)
	}
	h.CutOff = c.duration("a time")
	if !c.accept("tell") {
		c.expected(c.peek(), "tell", mend)
	}
	h.CutOffTell = c.names("a contact's name")
}

// throughMend is how a centre goes through a cluster.
const throughMend = `write: centre through "tls://broker-a:4222, tls://broker-b:4222" creds "FILE"`

// brokers reads the addresses of a cluster's brokers: one text, with commas between them.
func (c *cursor) brokers() []string {
	t := c.peek()
	var out []string
	for _, a := range strings.Split(c.text("addresses of brokers"), ",") {
		a = strings.TrimSpace(a)
		scheme, at, _ := strings.Cut(a, "://")
		host, number, numbered := strings.Cut(at, ":")
		if strings.HasPrefix(at, "[") { // an address of IPv6
			host, number, _ = strings.Cut(at, "]")
			number, numbered = strings.CutPrefix(number, ":")
		}
		switch {
		case c.failed:
			return nil
		case scheme == "nats" || scheme == "ws":
			c.fail(t, "bad-address", Quote(a)+" would carry logs in the clear",
				"write tls:// before it; the brokers need certificates for that")
		case scheme != "tls" || strings.Trim(host, "[") == "" || numbered && !port(number) ||
			strings.ContainsAny(at, "@/? \t\n"):
			c.fail(t, "bad-address", Quote(a)+" is no address of a broker", throughMend)
		case !numbered:
			a += ":4222"
		}
		out = append(out, a)
	}
	return out
}

// listenPort reads where to listen: a port, of a host or of all that the machine has.
func (c *cursor) listenPort(example string) string {
	if t := c.peek(); t.kind == text && strings.HasPrefix(t.val, ":") && port(t.val[1:]) {
		return c.text("a port")
	}
	return c.hostPort(example)
}

// besideSettings reads the path of a file, which lies beside the settings where it does not begin with /.
func (c *cursor) besideSettings(what string) string {
	path := c.text(what)
	if i := strings.LastIndexByte(c.file.Name, '/'); !c.failed && !strings.HasPrefix(path, "/") && i >= 0 {
		return c.file.Name[:i+1] + path
	}
	return path
}
