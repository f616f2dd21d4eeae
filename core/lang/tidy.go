package lang

import (
	"slices"
	"strings"
)

// Edited is the file's text after its blocks have been edited. What was not touched stays as it was
// written: other blocks, comments, blank lines and hand-made spacing. A block that was touched is in its
// canonical form, but for the lines that mean what they did, where it was not in that form before.
func (f *File) Edited() string {
	if f.shared() {
		return f.Format()
	}
	was := Parse(f.Name, []byte(strings.Join(f.lines, "\n")))
	if len(was.blocks) != len(f.born) {
		return f.Format()
	}
	places := was.Places()
	var out []string
	gap := func(from, to int) { // lines, from 1, both ends with it
		lines := f.lines[min(from-1, len(f.lines)):min(max(to, from-1), len(f.lines))]
		for len(lines) > 0 && lines[0] == "" && (len(out) == 0 || out[len(out)-1] == "") && len(out) > 0 {
			lines = lines[1:]
		}
		out = append(out, lines...)
	}
	end := 0 // the last line that was written, or passed over
	next := 0
	fresh := func(b *block) {
		if len(out) > 0 && out[len(out)-1] != "" {
			out = append(out, "")
		}
		out = append(out, printed(b, true)...)
	}
	for i, p := range places {
		for next < len(f.blocks) && !slices.Contains(f.born, f.blocks[next]) && !f.instead(next, i) {
			fresh(f.blocks[next])
			next++
		}
		lead := f.lines[end : p.First-1]
		if next >= len(f.blocks) || f.blocks[next] != f.born[i] && !f.instead(next, i) {
			// It was taken out, with what stands right above it.
			gap(end+1, end+lastBlank(lead)+1)
			end = p.Last
			continue
		}
		gap(end+1, p.First-1)
		raw, form := f.lines[p.First-1:p.Last], printed(was.blocks[i], false)
		switch now := printed(f.blocks[next], false); {
		case slices.Equal(now, form):
			out = append(out, raw...)
		case slices.Equal(raw, form):
			out = append(out, now...)
		default:
			out = append(out, kept(now, raw)...)
		}
		next, end = next+1, p.Last
	}
	for ; next < len(f.blocks); next++ {
		fresh(f.blocks[next])
	}
	gap(end+1, len(f.lines))
	return strings.TrimRight(strings.Join(out, "\n"), "\n") + "\n"
}

// instead tells whether a block was put in the place of one that was parsed.
func (f *File) instead(block, born int) bool {
	b, old := f.blocks[block], f.born[born]
	return !slices.Contains(f.born, b) && !slices.Contains(f.blocks, old) && b.kind.src == old.kind.src &&
		b.name.src == old.name.src
}

// shared tells whether two blocks stand on one line, or something else keeps blocks from being told
// apart by lines.
func (f *File) shared() bool {
	for i, p := range f.Places() {
		b := f.blocks[i]
		if slices.Contains(f.born, b) && (!b.complete || i > 0 && f.blocks[i-1].complete && slices.Contains(f.born,
			f.blocks[i-1]) && f.blocks[i-1].shut.pos.Line >= p.First) {
			return true
		}
	}
	return Errors(f.diags) || len(f.born) == 0
}

// printed are the lines of a block in its canonical form, with the comments above it or without.
func printed(b *block, lead bool) []string {
	c := *b
	if !lead {
		c.kind.lead = nil
	}
	c.kind.blank = false
	return strings.Split(strings.TrimRight((&File{blocks: []*block{&c}}).Format(), "\n"), "\n")
}

// Tidied is a text with those of its blocks in their canonical form that stood otherwise in the text
// before, or not at all. Of a block that was not in that form before, lines that say what they did stay
// as they are; all else stays as it is. A text with errors is left alone.
func Tidied(was, now string) string {
	f, old := Parse("text", []byte(now)), Parse("text", []byte(was))
	if Errors(f.diags) || f.shared() {
		return now
	}
	had := map[string]bool{}          // the lines of blocks
	before := map[string]([]string){} // of blocks that were not in their form, by kind and name
	lines := strings.Split(was, "\n")
	places := f.Places()
	for i, p := range old.Places() {
		raw := lines[p.First-1 : min(p.Last, len(lines))]
		had[strings.Join(raw, "\n")] = true
		if !slices.Equal(raw, printed(old.blocks[i], false)) {
			before[p.Kind+" "+p.Name] = raw
			if len(places) == len(old.blocks) { // it may be called otherwise now
				before[places[i].Kind+" "+places[i].Name] = raw
			}
		}
	}
	lines = strings.Split(now, "\n")
	var out []string
	end := 0
	for i, p := range places {
		out = append(out, lines[end:p.First-1]...)
		end = p.Last
		raw := lines[p.First-1 : p.Last]
		if had[strings.Join(raw, "\n")] {
			out = append(out, raw...)
			continue
		}
		out = append(out, kept(printed(f.blocks[i], false), before[p.Kind+" "+p.Name])...)
	}
	return strings.Join(append(out, lines[end:]...), "\n")
}

// kept puts lines as they were in the place of those that differ from them in blanks alone.
func kept(lines, before []string) []string {
	left := map[string][]string{}
	bare := func(s string) string { return strings.Join(strings.Fields(s), " ") }
	for _, l := range before {
		if b := bare(l); b != "" {
			left[b] = append(left[b], l)
		}
	}
	for i, l := range lines {
		if b := bare(l); len(left[b]) > 0 {
			lines[i], left[b] = left[b][0], left[b][1:]
		}
	}
	return lines
}
