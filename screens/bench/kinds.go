package bench

import (
	"slices"
	"strings"

	"dimlantern/api"
)

// kinds are the kinds of entries as they are shown, and which of them are chosen.
type kinds struct {
	chosen string // by its ID and source
	top    int
	only   int // which are shown: see onlyNames
	picked map[string]bool
	// pointed is the value of the chosen one's example that is spoken of; nil is none.
	pointed *[2]int
}

// lives are the lifelines as they are shown.
type lives struct {
	chosen string // by its key
	top    int
}

// onlyNames are the selections of kinds: those that the rule takes, those that it nearly
// takes, of the others the large ones and the small ones, and all by when they came last.
var onlyNames = []string{"all", "caught", "near", "usual", "odd", "newest"}

// usualShare is one in how many entries a kind must be at least to be usual.
const usualShare = 100

// moveKind chooses the kind that many rows below.
func (r *Room) moveKind(by int) {
	kinds := r.shownKinds()
	if len(kinds) == 0 {
		return
	}
	at := slices.IndexFunc(kinds, func(k api.BenchKind) bool { return k.ID+k.Source == r.kinds.chosen })
	k := kinds[min(max(at+by, 0), len(kinds)-1)]
	r.kinds.chosen = k.ID + k.Source
}

// shownKinds are the kinds that are shown: what the rule takes first, then what is near, then
// the rest by their numbers.
func (r *Room) shownKinds() []api.BenchKind {
	if r.view == nil {
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
	for _, k := range r.view.Kinds {
		all += k.Count
	}
	var out []api.BenchKind
	for _, k := range r.view.Kinds {
		caught := k.Is != "" && k.Is != "near"
		usual := k.Count*usualShare >= all
		if r.kinds.only == 1 && !caught || r.kinds.only == 2 && k.Is != "near" || r.kinds.only == 3 && (caught ||
			!usual) ||
			r.kinds.only == 4 && (caught || usual) {
			continue
		}
		out = append(out, k)
	}
	if r.kinds.only == 5 {
		slices.SortStableFunc(out, func(a, b api.BenchKind) int { return b.Newest - a.Newest })
		return out
	}
	slices.SortStableFunc(out, func(a, b api.BenchKind) int { return order(a) - order(b) })
	return out
}

// kind is the chosen kind; nil where there is none.
func (r *Room) kind() *api.BenchKind {
	for _, k := range r.shownKinds() {
		if k.ID+k.Source == r.kinds.chosen {
			return &k
		}
	}
	return nil
}

// picked are the entries of the kinds that were picked, or of the chosen one, and the
// kinds: of one source.
func (r *Room) picked() (source string, texts, kinds []string) {
	for _, k := range r.shownKinds() {
		if r.kinds.picked[k.ID+k.Source] && (source == "" || source == k.Source) {
			source, texts, kinds = k.Source, append(texts, k.Example), append(kinds, k.ID)
		}
	}
	if k := r.kind(); len(texts) == 0 && k != nil {
		return k.Source, []string{k.Example}, []string{k.ID}
	}
	return source, texts, kinds
}

// proposal is why a kind may end the problem; "" where nothing says so.
func (r *Room) proposal(k *api.BenchKind) string {
	if r.proposals == nil || r.view == nil || r.proposals.Rule != r.view.Rule {
		return ""
	}
	for _, x := range r.proposals.List {
		if x.Shape == k.ID && x.Source == k.Source {
			return x.Words
		}
	}
	return ""
}

// values are the stretches of a kind's example, in bytes, that may vary: numbers, and words with a
// digit or after a sign such as =; then what stands inside those, and all other words.
func values(k *api.BenchKind) [][2]int {
	line, _, _ := strings.Cut(k.Example, "\n")
	from := 0
	for _, f := range k.Fields { // what the layout gives has names already
		if f.Name == "text" && f.Value != "" {
			first, _, _ := strings.Cut(f.Value, "\n")
			from = max(strings.LastIndex(line, first), 0)
		}
	}
	var out, inside, words [][2]int
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
		at := [2]int{i, i + len(word)}
		switch {
		case strings.ContainsAny(word, "0123456789"), i > 0 && strings.ContainsRune(`="'`, rune(line[i-1])):
			out = append(out, at)
			if k := strings.LastIndexAny(word, ":"); k > 0 && k < len(word)-1 { // what stands inside it
				inside = append(inside, [2]int{i, i + k}, [2]int{i + k + 1, i + len(word)})
			}
		case len(word) > 1:
			words = append(words, at)
		}
		i = j
	}
	return slices.Concat(out, inside, words)
}

func valueByte(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80 ||
		strings.IndexByte("_-.:", c) >= 0
}

// toKinds moves the keys to the kinds.
func (r *Room) toKinds() {
	r.pane = entryKinds
	if r.kind() == nil {
		if kinds := r.shownKinds(); len(kinds) > 0 {
			r.kinds.chosen = kinds[0].ID + kinds[0].Source
		}
	}
}

// toLives moves the keys to the lifelines, or to the text where there are none.
func (r *Room) toLives() {
	rows := r.lifeRows()
	if len(rows) == 0 {
		r.pane = ruleText
		return
	}
	r.pane = lifeList
	if r.lifeIndex() < 0 {
		r.lives.chosen = lifeID(&rows[0])
	}
}

func (r *Room) lifeRows() []api.Row {
	if r.view == nil {
		return nil
	}
	return r.view.Rows
}

func lifeID(x *api.Row) string { return strings.Join(x.Key, "\x00") }

func (r *Room) lifeIndex() int {
	return slices.IndexFunc(r.lifeRows(), func(x api.Row) bool { return lifeID(&x) == r.lives.chosen })
}

// life is the chosen lifeline; nil where there is none.
func (r *Room) life() *api.Row {
	if i := r.lifeIndex(); i >= 0 && r.pane == lifeList {
		x := r.lifeRows()[i]
		return &x
	}
	return nil
}

// moveLife chooses the lifeline that many rows below.
func (r *Room) moveLife(by int) {
	if rows := r.lifeRows(); len(rows) > 0 {
		r.lives.chosen = lifeID(&rows[min(max(r.lifeIndex()+by, 0), len(rows)-1)])
	}
}

// pick picks the chosen kind, or lets it go.
func (r *Room) pick() {
	if k := r.kind(); k != nil {
		r.kinds.picked[k.ID+k.Source] = !r.kinds.picked[k.ID+k.Source]
	}
}
