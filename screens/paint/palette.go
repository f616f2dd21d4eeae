package paint

import "dimlantern/core/entry"

// Palette are the colours of the screens. Brightness is severity: the more a
// colour stands out from the ground, the worse.
type Palette struct {
	Ground, Text, Dim, Chosen, Rule Color
	Severity                        [5]Color // by entry.Severity
	Over                            Color    // what is over, or ends it
	Blind                           Color    // what cannot be seen
	Stir                            Color    // hits below the threshold
	Tide                            Color
	Strong                          Color // the brightest words
	Mono                            bool  // the terminal has no colours
}

// Dark is the palette for a dark ground.
func Dark() Palette {
	return Palette{
		Ground: Hex("#14110d"), Text: Hex("#cdbfa8"), Dim: Hex("#8f8472"), Chosen: Hex("#262018"),
		Rule:     Hex("#4a4338"),
		Severity: [5]Color{Hex("#8f8472"), Hex("#a07f4f"), Hex("#c4853a"), Hex("#f2b24c"), Hex("#fff1d2")},
		Over:     Hex("#5fa8a0"), Blind: Hex("#948ca3"), Stir: Hex("#6f6555"), Tide: Hex("#6b604c"),
		Strong: Hex("#fff1d2"),
	}
}

// Light is the palette for a light ground, in the same order.
func Light() Palette {
	return Palette{
		Ground: Hex("#f7f2e8"), Text: Hex("#4a4234"), Dim: Hex("#7d725f"), Chosen: Hex("#e9dfcc"),
		Rule:     Hex("#c8bca6"),
		Severity: [5]Color{Hex("#7d725f"), Hex("#b08a4a"), Hex("#a8691c"), Hex("#7d4300"), Hex("#2b1500")},
		Over:     Hex("#1f756c"), Blind: Hex("#6f6684"), Stir: Hex("#9a8f7b"), Tide: Hex("#b7a98c"),
		Strong: Hex("#1d160b"),
	}
}

// wicks stand at the left of a row, by severity.
var wicks = [5]string{" ", "▏", "▍", "▋", "█"}

// Wick is the mark of an open alert of that severity.
func Wick(s entry.Severity) string { return wicks[min(int(s), 4)] }

// Light tells whether the ground is a light one.
func (p Palette) Light() bool { return p.Ground == Light().Ground }
