package folder

import "os"

// keepOwner does nothing: who replaces a file owns it.
func keepOwner(*os.File, string) error { return nil }
