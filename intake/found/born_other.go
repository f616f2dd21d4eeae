//go:build !linux

package found

import "time"

// bornAt is when a file was made; false where that is not known.
func bornAt(string) (time.Time, bool) { return time.Time{}, false }
