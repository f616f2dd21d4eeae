//go:build !linux

package intake

import "os"

// behindHole is where a file has data again; nobody says so here.
func behindHole(_ *os.File, place int64) int64 { return place }
