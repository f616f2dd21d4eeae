package notify

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"dimlantern/notify/via"
)

// templateStamp changes whenever a template of messages in a folder does.
func templateStamp(dir string) string {
	var b strings.Builder
	for _, n := range []string{via.SubjectFile, via.TextFile, via.HTMLFile} {
		if info, err := os.Stat(filepath.Join(dir, n)); err == nil {
			fmt.Fprintf(&b, "%s %d %d\n", n, info.Size(), info.ModTime().UnixNano())
		}
	}
	return b.String()
}
