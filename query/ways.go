package query

import (
	"maps"
	"slices"

	"dimlantern/api"
)

// words say what is to be said of a way that is open.
func wayWords(v api.WayView, origins int) string {
	for _, name := range slices.Sorted(maps.Keys(v.State.Ways)) {
		return name + ": " + v.State.Ways[name].Words
	}
	for _, x := range v.State.Senders {
		if x.Note != "" && x.Received == 0 {
			return x.Name + ": " + x.Note
		}
	}
	if origins == 0 {
		return "nothing has come yet"
	}
	return v.State.Note
}
