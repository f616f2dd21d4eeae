package engine

import (
	"errors"
	"fmt"
	"maps"
	"slices"

	"dimlantern/core/verdict"

	"dimlantern/core/entry"
)

// Input is one thing that the engine is told: a judged entry, an instant, what can be seen,
// what a person does. The same inputs in the same order make the same engine and the same
// transitions, so a journal of them is all that must be kept besides a snapshot now and
// then. See Apply, AppendInput and ReadInput.
type Input interface {
	// apply does it, and answers whether that did anything that must be journalled.
	apply(e *Engine) bool
	kind() byte
	write(w *writer)
}

// Entry is an entry that is something for at least one rule.
type Entry struct{ *verdict.Judged }

// Advance tells that all entries before At have been taken: timers that are due up to then,
// and at it, act.
type Advance struct{ At entry.Instant }

// Reach is Advance for an instant that the own time of an entry has reached: the clock
// follows.
type Reach struct{ At entry.Instant }

// Hold says up to when the origins of some rules have been read, by the rules' places; the
// others' have been read up to now. A timer of a held rule that falls due later than that
// waits, and acts, with its own deadline, once the rule is held no more, or an entry that
// is something for it has come from then or later. It takes the place of the Hold before.
type Hold struct{ Bounds map[int]entry.Instant }

// Blind tells that an origin cannot be seen from At on: quiet stands still for keys all of
// whose origins are blind. Seen tells that it can be seen again.
type (
	Blind struct {
		Origin string
		At     entry.Instant
	}
	Seen Blind
)

// Forget tells that an origin was but a name for what had never been seen, and that it can
// be seen from At on under names of its own. What its blindness raised clears; a key that
// was nothing but that origin goes.
type Forget Blind

// Origin is a log as rules that await know it, before it has said anything.
type Origin struct {
	Name, Source, Channel string
	Host                  string // "" where the layout gives it
}

// Begin tells rules that await that watching has begun, and which logs there are: keys that
// a log itself gives wait from then on, as do hosts that are named, and a rule without a
// key. What is known already stays as it is.
type Begin struct {
	At      entry.Instant
	Origins []Origin
}

// Rest is what is not watched on purpose from At on: origins by name, and rules that look at
// nothing else. Of their keys nothing is raised, cleared or repeated, and no time passes,
// until they rest no more. It takes the place of the Rest before; what rested already does
// so since then.
type Rest struct {
	At      entry.Instant
	Origins []string
	Rules   []string
}

// Clear ends an open alert by hand.
type Clear struct {
	Alert     string
	At        entry.Instant
	By, Words string
}

// Act is what a person does to an open alert besides ending it, at an instant to which the
// engine has been advanced. To take it keeps it from being told again and from raises that
// are for untaken ones; the others change no state.
type Act struct {
	Alert  string
	At     entry.Instant
	Change string // Taken, Noted, Hushed or Unhushed
	By     string
	Words  string
	Until  entry.Instant // of a hush; 0 where it has no end
	LetGo  bool          // takes back that somebody has taken it
}

// Apply tells the engine one thing; it is the only way to change one, besides Edit. The
// transitions are valid until the next call. Did is false where it found nothing to do: no
// timer was due, no such alert is open, nothing is new. Such an input need not be kept.
func (e *Engine) Apply(in Input) (ts []Transition, did bool) {
	e.out = e.out[:0]
	did = in.apply(e)
	return e.out, did
}

func (in Entry) apply(e *Engine) bool   { e.take(in.Judged); return true }
func (in Advance) apply(e *Engine) bool { return e.fire(in.At) }
func (in Reach) apply(e *Engine) bool {
	e.fire(in.At)
	e.clock = entry.Later(e.clock, in.At)
	return true
}
func (in Hold) apply(e *Engine) bool {
	if maps.Equal(in.Bounds, e.held) {
		return false
	}
	e.hold(in.Bounds)
	return true
}
func (in Blind) apply(e *Engine) bool { e.blinded(in); return true }
func (in Seen) apply(e *Engine) bool {
	e.fire(in.At)
	e.seen(in.Origin, in.At)
	return true
}
func (in Forget) apply(e *Engine) bool { e.forgetOrigin(in); return true }
func (in Begin) apply(e *Engine) bool  { return e.begin(in.At, in.Origins) }
func (in Rest) apply(e *Engine) bool   { return e.sleep(in) }
func (in Clear) apply(e *Engine) bool  { return e.clearByHand(in) }
func (in Act) apply(e *Engine) bool    { return e.act(in) }

// The kinds of inputs as the encoding tells them apart. They are never given to others.
const (
	kindEntry byte = iota + 0x21
	kindAdvance
	kindReach
	kindHold
	kindBlind
	kindSeen
	kindForget
	kindBegin
	kindRest
	kindClear
	kindAct
	kindRelayed
	kindHostGone
	kindHostRenamed
	kindHostUnheard
	kindHostHeard
)

func (Entry) kind() byte   { return kindEntry }
func (Advance) kind() byte { return kindAdvance }
func (Reach) kind() byte   { return kindReach }
func (Hold) kind() byte    { return kindHold }
func (Blind) kind() byte   { return kindBlind }
func (Seen) kind() byte    { return kindSeen }
func (Forget) kind() byte  { return kindForget }
func (Begin) kind() byte   { return kindBegin }
func (Rest) kind() byte    { return kindRest }
func (Clear) kind() byte   { return kindClear }
func (Act) kind() byte     { return kindAct }

// AppendInput appends an input to b in the form in which a journal keeps it. Rules stand in
// it by their place in the engine.
func AppendInput(b []byte, in Input) []byte {
	w := writer(append(b, in.kind()))
	in.write(&w)
	return w
}

// ErrInput says that bytes are no inputs, or those of another version.
var ErrInput = errors.New("the journal is damaged, or was written by another version")

// ReadInput reads an input from the start of b, and returns what follows it.
func ReadInput(b []byte) (in Input, rest []byte, err error) {
	if len(b) == 0 {
		return nil, nil, ErrInput
	}
	r := &reader{b: b[1:]}
	switch b[0] {
	case kindEntry:
		in = Entry{r.judged()}
	case kindAdvance:
		in = Advance{r.instant()}
	case kindReach:
		in = Reach{r.instant()}
	case kindHold:
		h := Hold{map[int]entry.Instant{}}
		for range r.len() {
			i := int(r.int())
			h.Bounds[i] = r.instant()
		}
		in = h
	case kindBlind:
		in = r.blind()
	case kindSeen:
		in = Seen(r.blind())
	case kindForget:
		in = Forget(r.blind())
	case kindBegin:
		x := Begin{At: r.instant()}
		for range r.len() {
			x.Origins = append(x.Origins, Origin{Name: r.str(), Source: r.str(), Channel: r.str(), Host: r.str()})
		}
		in = x
	case kindRest:
		in = Rest{At: r.instant(), Origins: r.strs(), Rules: r.strs()}
	case kindClear:
		in = Clear{Alert: r.str(), At: r.instant(), By: r.str(), Words: r.str()}
	case kindAct:
		in = Act{Alert: r.str(), At: r.instant(), Change: r.str(), By: r.str(), Words: r.str(), Until: r.instant(),
			LetGo: r.bool()}
	case kindRelayed:
		in = r.relayed()
	case kindHostGone:
		in = HostGone{Reporter: r.str(), At: r.instant()}
	case kindHostRenamed:
		in = HostRenamed{From: r.str(), To: r.str()}
	case kindHostUnheard:
		in = r.hostUnheard()
	case kindHostHeard:
		in = HostHeard{Reporter: r.str(), At: r.instant()}
	default:
		return nil, nil, fmt.Errorf("%w: it has a kind %#x", ErrInput, b[0])
	}
	if r.bad {
		return nil, nil, ErrInput
	}
	return in, r.b, nil
}

func (in Advance) write(w *writer) { w.int(int64(in.At)) }
func (in Reach) write(w *writer)   { w.int(int64(in.At)) }
func (in Hold) write(w *writer) {
	w.int(int64(len(in.Bounds)))
	for _, i := range slices.Sorted(maps.Keys(in.Bounds)) {
		w.int(int64(i))
		w.int(int64(in.Bounds[i]))
	}
}
func (in Blind) write(w *writer) {
	w.str(in.Origin)
	w.int(int64(in.At))
}
func (in Seen) write(w *writer)   { Blind(in).write(w) }
func (in Forget) write(w *writer) { Blind(in).write(w) }
func (in Begin) write(w *writer) {
	w.int(int64(in.At))
	w.int(int64(len(in.Origins)))
	for _, o := range in.Origins {
		w.str(o.Name)
		w.str(o.Source)
		w.str(o.Channel)
		w.str(o.Host)
	}
}
func (in Rest) write(w *writer) {
	w.int(int64(in.At))
	w.strs(in.Origins)
	w.strs(in.Rules)
}
func (in Clear) write(w *writer) {
	w.str(in.Alert)
	w.int(int64(in.At))
	w.str(in.By)
	w.str(in.Words)
}
func (in Act) write(w *writer) {
	w.str(in.Alert)
	w.int(int64(in.At))
	w.str(in.Change)
	w.str(in.By)
	w.str(in.Words)
	w.int(int64(in.Until))
	w.bool(in.LetGo)
}

func (in Entry) write(w *writer) {
	j, x := in.Judged, in.Judged.Entry
	w.str(x.Source)
	w.str(x.Origin)
	w.str(x.Host)
	w.int(x.Offset)
	w.str(x.Raw)
	w.int(int64(x.At))
	w.int(int64(j.Reached))
	w.int(int64(len(j.Verdicts)))
	for i := range j.Verdicts {
		w.verdict(&j.Verdicts[i], x.At)
	}
}

func (w *writer) verdict(v *verdict.Verdict, at entry.Instant) {
	bits := int64(0)
	for i, b := range []bool{v.Hit, v.Recovery, v.Awaited, v.Question, v.Counted, v.Where != 0 || len(v.Values) > 0 ||
		len(v.Follows) > 0 || v.At != at} {
		if b {
			bits |= 1 << i
		}
	}
	w.int(int64(v.Rule)<<6 | bits)
	w.strs(v.Key)
	if v.Recovery {
		w.strs(v.RecoveryKey)
	}
	if bits&32 != 0 {
		w.int(int64(v.At))
		w.int(int64(v.Where))
		w.strs(v.Values)
		w.int(int64(len(v.Follows)))
		for _, f := range v.Follows {
			w.int(int64(f.Raise))
			w.strs(f.Key)
		}
	}
	w.int(int64(len(v.Vars)))
	for _, f := range v.Vars {
		w.str(f.Name)
		w.str(f.Value)
	}
}

func (r *reader) blind() Blind { return Blind{r.str(), r.instant()} }

func (r *reader) judged() *verdict.Judged {
	x := &entry.Entry{Source: r.str(), Origin: r.str(), Host: r.str(), Offset: r.int(), Raw: r.str(), At: r.instant()}
	j := &verdict.Judged{Entry: x, Reached: r.instant()}
	for range r.len() {
		j.Verdicts = append(j.Verdicts, r.verdict(x.At))
	}
	return j
}

func (r *reader) verdict(at entry.Instant) verdict.Verdict {
	n := r.int()
	v := verdict.Verdict{Rule: int(n >> 6), At: at, Hit: n&1 != 0, Recovery: n&2 != 0, Awaited: n&4 != 0,
		Question: n&8 != 0, Counted: n&16 != 0, Key: r.strs()}
	if v.Recovery {
		v.RecoveryKey = r.strs()
	}
	if n&32 != 0 {
		v.At, v.Where, v.Values = r.instant(), uint64(r.int()), r.strs()
		for range r.len() {
			v.Follows = append(v.Follows, verdict.Follow{Raise: int(r.int()), Key: r.strs()})
		}
	}
	for range r.len() {
		v.Vars = append(v.Vars, entry.Field{Name: r.str(), Value: r.str()})
	}
	return v
}
