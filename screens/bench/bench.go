// Package bench is the room in which rules are made: the text of a settings file, what its
// rule means in words, what it would have done over the sample, the kinds of entries with
// what the rule makes of them, and the lifelines that would have been.
//
// Keys and answers of the service come in, questions and drawings go out. It asks nothing
// itself.
package bench

import (
	"slices"
	"strings"

	"dimlantern/api"

	tea "charm.land/bubbletea/v2"

	"dimlantern/core/lang"
)

// Pane is where the keys go.
type Pane int

// The panes: the list of rules, the text of one, the kinds of entries, and the lifelines.
const (
	List Pane = iota
	Text
	Kinds
	Lives
)

// Room is the room's own state. The zero value is ready.
type Room struct {
	Pane   Pane
	Rules  *api.RulesView
	View   *api.BenchView // of the text as it is, or was when it could be judged last
	Stale  bool           // the text has changed since, and has errors
	Filter string         // of the list
	// Proposals may end the problem of the rule at the cursor; nil where none were asked for.
	Proposals *api.Proposals
	// Others is what other numbers would give in the place of that at the cursor, OthersAt
	// the line that it speaks of, from 0.
	Others   string
	OthersAt int
	Pointed  *[2]int // the value of the chosen entry that is spoken of; nil is none
	Sought   string  // what was searched for last

	file, was string // that is open, and what stood in it
	fresh     bool   // it is not there yet
	area      editor
	placed    struct { // where the blocks of a text stand
		text   string
		places []lang.Place
	}
	undo    []draft
	redo    []draft
	chosen  string // the rule, in the list
	top     int
	textTop int
	kind    string // the chosen one's ID
	kindTop int
	life    string // the chosen lifeline's key
	lifeTop int
	geo     geometry
	only    int // which kinds are shown: see onlyNames
	picked  map[string]bool
	fed     []string
}

type draft struct {
	text      string
	line, col int
}

// onlyNames are the selections of kinds: those that the rule takes, those that it nearly
// takes, of the others the large ones and the small ones, and all by when they came last.
var onlyNames = []string{"all", "caught", "near", "usual", "odd", "newest"}

// usualShare is one in how many entries a kind must be at least to be usual.
const usualShare = 100

// Open takes a file in, with the cursor on a line of it, from 1.
func (r *Room) Open(file, body string, line int, fresh bool) {
	r.file, r.was, r.fresh = file, body, fresh
	r.undo, r.redo, r.View, r.Stale = nil, nil, nil, false
	r.fed = nil
	r.kind, r.picked, r.textTop, r.kindTop, r.only = "", map[string]bool{}, max(line-2, 0), 0, 0
	r.set(draft{body, line - 1, 0})
	r.Pane = Text
}

// File is the open file, what is typed, and what stood in it.
func (r *Room) File() (file, body, was string) { return r.file, r.Body(), r.was }

// Body is the text as it is.
func (r *Room) Body() string { return r.area.Value() }

// Line is where the cursor stands, from 1, and Column how many characters stand before it.
func (r *Room) Line() int   { return r.area.line + 1 }
func (r *Room) Column() int { return r.area.col }

// Complete puts the first of the proposed words in the place of what is being typed; false
// where none is proposed for it.
func (r *Room) Complete() bool {
	words := r.proposed()
	if len(words) == 0 {
		return false
	}
	r.remember(r.now())
	r.area.Insert(string([]rune(words[0])[r.View.Typed:]))
	return true
}

// proposed are the words that fit what is being typed now.
func (r *Room) proposed() []string {
	if r.View == nil || r.Pane != Text || r.View.Typed == 0 {
		return nil
	}
	col := r.area.col
	line := []rune(lineOf(r.Body(), r.area.line))
	if col > len(line) || col < r.View.Typed {
		return nil
	}
	typed := string(line[col-r.View.Typed : col])
	var out []string
	for _, w := range r.View.Complete {
		if strings.HasPrefix(w, typed) && w != typed {
			out = append(out, w)
		}
	}
	return out
}

// Canonical brings the text into its one form, where it has no errors; the cursor stays in
// its clause.
func (r *Room) Canonical() {
	f := lang.Parse("text", []byte(r.Body()))
	if lang.Errors(f.Diagnostics()) {
		return
	}
	text := f.Format()
	if text == r.Body() {
		return
	}
	d := r.now()
	word := strings.Join(strings.Fields(lineOf(d.text, d.line)), " ")
	r.remember(d)
	for i, l := range strings.Split(text, "\n") {
		if strings.Join(strings.Fields(l), " ") == word && i >= d.line-3 {
			d.line = i
			break
		}
	}
	r.set(draft{text, d.line, d.col})
}

// Changed tells whether the text differs from the file.
func (r *Room) Changed() bool { return r.fresh || r.Body() != r.was }

// Fresh tells whether the file is not there yet; it is called as its first rule is.
func (r *Room) Fresh() bool { return r.fresh }

// Saved notes that a file now has a text.
func (r *Room) Saved(file, body string) { r.file, r.was, r.fresh = file, body, false }

// Name is the name of the first rule of the text; "" where there is none.
func (r *Room) Name() string {
	for _, p := range lang.Parse(r.file, []byte(r.Body())).Places() {
		if p.Kind == "rule" {
			return p.Name
		}
	}
	return ""
}

func (r *Room) now() draft { return draft{r.Body(), r.area.line, r.area.col} }

func (r *Room) set(d draft) {
	r.area.SetValue(strings.TrimRight(d.text, "\n") + "\n")
	r.area.MoveTo(d.line, d.col)
}

// Replace puts a text in the place of what is there; it can be undone.
func (r *Room) Replace(text string, line int) {
	r.remember(r.now())
	r.set(draft{text, line - 1, 0})
}

func (r *Room) remember(d draft) {
	if n := len(r.undo); n == 0 || r.undo[n-1].text != d.text {
		r.undo = append(r.undo, d)
	}
	r.redo = nil
}

// Type takes a key into the text; it answers whether the text or the cursor has changed.
func (r *Room) Type(k tea.KeyPressMsg) (changed bool) {
	before := r.now()
	switch k.String() {
	case "ctrl+z":
		return r.back(&r.undo, &r.redo)
	case "ctrl+r":
		return r.back(&r.redo, &r.undo)
	case "alt+up", "alt+down":
		if text, col, ok := lang.Stepped(lineOf(before.text, before.line), before.col, k.String() == "alt+up"); ok {
			lines := strings.Split(before.text, "\n")
			lines[before.line] = text
			r.remember(before)
			r.set(draft{strings.Join(lines, "\n"), before.line, col})
			return true
		}
		return false
	case "enter": // the next line begins as deep as this one
		line := lineOf(before.text, before.line)
		indent := line[:len(line)-len(strings.TrimLeft(line, " "))]
		if strings.HasSuffix(strings.TrimRight(line[:min(before.col, len(line))], " "), "{") {
			indent += "  "
		}
		r.remember(before)
		r.area.Insert("\n" + indent)
		return true
	}
	r.area.Press(k)
	after := r.now()
	if after.text != before.text {
		r.remember(before)
	}
	return after != before
}

// Paste takes a text of several lines.
func (r *Room) Paste(s string) {
	r.remember(r.now())
	r.area.Insert(s)
}

func (r *Room) back(from, to *[]draft) bool {
	n := len(*from)
	if n == 0 {
		return false
	}
	*to = append(*to, r.now())
	d := (*from)[n-1]
	*from = (*from)[:n-1]
	r.set(d)
	return true
}

// Undo takes the last change back.
func (r *Room) Undo() bool { return r.back(&r.undo, &r.redo) }

func lineOf(text string, n int) string {
	lines := strings.Split(text, "\n")
	if n < 0 || n >= len(lines) {
		return ""
	}
	return lines[n]
}

// Take takes an answer in. One without a trial leaves what was judged last.
func (r *Room) Take(v *api.BenchView) {
	failed := slices.ContainsFunc(v.Findings, func(f api.BenchFinding) bool { return f.Error })
	if v.Tried == nil && failed && r.View != nil {
		old := *r.View
		old.Findings, old.Complete, old.Typed = v.Findings, v.Complete, v.Typed
		r.View, r.Stale = &old, true
		return
	}
	r.View, r.Stale = v, false
}

// TakeRules takes the list of rules in.
func (r *Room) TakeRules(v *api.RulesView) {
	r.Rules = v
	if list := r.listed(); r.index() < 0 && len(list) > 0 {
		r.chosen = list[0].Rule
	}
}

func (r *Room) listed() []api.RuleCost {
	if r.Rules == nil {
		return nil
	}
	var out []api.RuleCost
	for _, x := range r.Rules.Rules {
		if strings.Contains(strings.ToLower(x.Rule+" "+x.File), strings.ToLower(r.Filter)) &&
			strings.HasSuffix(x.File, ".lantern") {
			out = append(out, x)
		}
	}
	return out
}

func (r *Room) index() int {
	return slices.IndexFunc(r.listed(), func(x api.RuleCost) bool { return x.Rule == r.chosen })
}

// Chosen is the chosen rule of the list; nil where there is none.
func (r *Room) Chosen() *api.RuleCost {
	if i := r.index(); i >= 0 {
		x := r.listed()[i]
		return &x
	}
	return nil
}

// Move chooses the row that many rows below.
func (r *Room) Move(by int) {
	if r.Pane == List {
		if list := r.listed(); len(list) > 0 {
			r.chosen = list[min(max(r.index()+by, 0), len(list)-1)].Rule
		}
		return
	}
	if r.Pane == Lives {
		if rows := r.rows(); len(rows) > 0 {
			r.life = lifeID(&rows[min(max(r.lifeIndex()+by, 0), len(rows)-1)])
		}
		return
	}
	kinds := r.kinds()
	if len(kinds) == 0 {
		return
	}
	at := slices.IndexFunc(kinds, func(k api.BenchKind) bool { return k.ID+k.Source == r.kind })
	k := kinds[min(max(at+by, 0), len(kinds)-1)]
	r.kind = k.ID + k.Source
}

// kinds are the kinds that are shown: what the rule takes first, then what is near, then
// the rest by their numbers.
func (r *Room) kinds() []api.BenchKind {
	if r.View == nil {
		return nil
	}
	rank := map[string]int{"problem": 0, "over": 1, "ignored": 2, "near": 4, "": 5}
	order := func(k api.BenchKind) int {
		if k.Is != "problem" && r.proposal(&k) != "" {
			return 3
		}
		return rank[k.Is]
	}
	all := 0
	for _, k := range r.View.Kinds {
		all += k.Count
	}
	var out []api.BenchKind
	for _, k := range r.View.Kinds {
		caught := k.Is != "" && k.Is != "near"
		usual := k.Count*usualShare >= all
		if r.only == 1 && !caught || r.only == 2 && k.Is != "near" || r.only == 3 && (caught || !usual) ||
			r.only == 4 && (caught || usual) {
			continue
		}
		out = append(out, k)
	}
	if r.only == 5 {
		slices.SortStableFunc(out, func(a, b api.BenchKind) int { return b.Newest - a.Newest })
		return out
	}
	slices.SortStableFunc(out, func(a, b api.BenchKind) int { return order(a) - order(b) })
	return out
}

// Kind is the chosen kind; nil where there is none.
func (r *Room) Kind() *api.BenchKind {
	for _, k := range r.kinds() {
		if k.ID+k.Source == r.kind {
			return &k
		}
	}
	return nil
}

// Picked are the entries of the kinds that were picked, or of the chosen one, and the
// kinds: of one source.
func (r *Room) Picked() (source string, texts, kinds []string) {
	for _, k := range r.kinds() {
		if r.picked[k.ID+k.Source] && (source == "" || source == k.Source) {
			source, texts, kinds = k.Source, append(texts, k.Example), append(kinds, k.ID)
		}
	}
	if k := r.Kind(); len(texts) == 0 && k != nil {
		return k.Source, []string{k.Example}, []string{k.ID}
	}
	return source, texts, kinds
}

// proposal is why a kind may end the problem; "" where nothing says so.
func (r *Room) proposal(k *api.BenchKind) string {
	if r.Proposals == nil || r.View == nil || r.Proposals.Rule != r.View.Rule {
		return ""
	}
	for _, x := range r.Proposals.List {
		if x.Shape == k.ID && x.Source == k.Source {
			return x.Words
		}
	}
	return ""
}

// Values are the stretches of a kind's example, in bytes, that may vary: numbers, and
// words with a digit or after a sign such as =.
func Values(k *api.BenchKind) [][2]int {
	line, _, _ := strings.Cut(k.Example, "\n")
	from := 0
	for _, f := range k.Fields { // what the layout gives has names already
		if f.Name == "text" && f.Value != "" {
			first, _, _ := strings.Cut(f.Value, "\n")
			from = max(strings.LastIndex(line, first), 0)
		}
	}
	var out [][2]int
	for i := from; i < len(line); {
		if !valueByte(line[i]) {
			i++
			continue
		}
		j := i
		for j < len(line) && valueByte(line[j]) {
			j++
		}
		word := strings.TrimRight(line[i:j], ".:-")
		if strings.ContainsAny(word, "0123456789") || i > 0 && strings.ContainsRune(`="'`, rune(line[i-1])) {
			out = append(out, [2]int{i, i + len(word)})
		}
		i = j
	}
	return out
}

func valueByte(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80 ||
		strings.IndexByte("_-.:", c) >= 0
}

// Search moves the cursor to the next place behind it that has some words, capitals or
// not; false where there is none.
func (r *Room) Search(words string) bool {
	r.Sought = words
	lines := strings.Split(strings.ToLower(r.Body()), "\n")
	words = strings.ToLower(words)
	if words == "" {
		return true
	}
	at := r.area.line
	for n := 0; n <= len(lines); n++ {
		i := (at + n) % len(lines)
		from := 0
		if n == 0 {
			from = min(r.area.col+1, len([]rune(lines[i])))
		}
		rest := string([]rune(lines[i])[from:])
		if k := strings.Index(rest, words); k >= 0 {
			r.set(draft{r.Body(), i, from + len([]rune(rest[:k]))})
			r.Pane = Text
			return true
		}
	}
	return false
}

// Pick picks the chosen kind, or lets it go.
func (r *Room) Pick() {
	if k := r.Kind(); k != nil {
		r.picked[k.ID+k.Source] = !r.picked[k.ID+k.Source]
	}
}

// PickNone lets all kinds go.
func (r *Room) PickNone() { r.picked = map[string]bool{} }

// Feed gives the chosen entry to the rule; FeedNone takes all that were given back.
func (r *Room) Feed() {
	if k := r.Kind(); k != nil && len(r.fed) < 50 {
		r.fed = append(r.fed, k.Example)
	}
}

// FeedText gives the rule a line that was typed.
func (r *Room) FeedText(line string) {
	if len(r.fed) < 50 {
		r.fed = append(r.fed, line)
	}
}

// FeedNone takes back what was fed.
func (r *Room) FeedNone() { r.fed = nil }

// Fed are the lines that were given to the rule.
func (r *Room) Fed() []string { return r.fed }

// Only shows the next selection of kinds.
func (r *Room) Only() { r.only = (r.only + 1) % len(onlyNames) }

// ToKinds moves the keys to the kinds.
func (r *Room) ToKinds() {
	r.Pane = Kinds
	if r.Kind() == nil {
		if kinds := r.kinds(); len(kinds) > 0 {
			r.kind = kinds[0].ID + kinds[0].Source
		}
	}
}

// ToLives moves the keys to the lifelines; false where there are none.
func (r *Room) ToLives() bool {
	rows := r.rows()
	if len(rows) == 0 {
		return false
	}
	r.Pane = Lives
	if r.lifeIndex() < 0 {
		r.life = lifeID(&rows[0])
	}
	return true
}

func (r *Room) rows() []api.Row {
	if r.View == nil {
		return nil
	}
	return r.View.Rows
}

func lifeID(x *api.Row) string { return strings.Join(x.Key, "\x00") }

func (r *Room) lifeIndex() int {
	return slices.IndexFunc(r.rows(), func(x api.Row) bool { return lifeID(&x) == r.life })
}

// Life is the chosen lifeline; nil where there is none.
func (r *Room) Life() *api.Row {
	if i := r.lifeIndex(); i >= 0 && r.Pane == Lives {
		x := r.rows()[i]
		return &x
	}
	return nil
}

// ToText moves the keys to the text.
func (r *Room) ToText() {
	r.Pane = Text
}

// Close leaves the text.
func (r *Room) Close() {
	r.Pane, r.View = List, nil
}

// geometry is where things were drawn last, so that a click finds them.
type geometry struct {
	textX, textY, textW int
	lines               []int // of each row of the text, the line from 0; -1 is none
	kindsY              int
	kinds               []string
	listY               int
	list                []string
}

// Click does what a click at a cell stands for; false where nothing is there.
func (r *Room) Click(x, y int) bool {
	g := &r.geo
	if r.Pane == List {
		if i := y - g.listY; i >= 0 && i < len(g.list) {
			r.chosen = g.list[i]
			return true
		}
		return false
	}
	if i := y - g.textY; i >= 0 && i < len(g.lines) && x >= g.textX && x < g.textX+g.textW {
		line := g.lines[i]
		if line < 0 {
			return false
		}
		r.set(draft{r.Body(), line, max(x-g.textX-5, 0)})
		r.ToText()
		return true
	}
	if i := y - g.kindsY; i >= 0 && i < len(g.kinds) {
		r.ToKinds()
		r.kind = g.kinds[i]
		return true
	}
	return false
}
