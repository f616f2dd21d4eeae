package room

import "slices"

// Window is which lines of a list are shown in a height, so that the chosen one is among them and little moves; top is
// the first line that is shown, as it was before and as it is now. A line of -1 is a gap: where not all lines have
// room, they do without.
func Window(lines []int, chosen, height int, top *int) []int {
	if len(lines) > height {
		lines = slices.DeleteFunc(lines, func(i int) bool { return i < 0 })
	}
	at := slices.Index(lines, chosen)
	if len(lines) <= height {
		*top = 0
	} else if at >= 0 {
		*top = min(max(*top, at-height+2), max(at-1, 0), len(lines)-height)
	}
	lines = lines[min(max(*top, 0), len(lines)):]
	return lines[:min(len(lines), max(height, 0))]
}
