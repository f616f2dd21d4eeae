//go:build amd64 && !purego

package match

// withoutWide does something as processors without wide instructions do it.
func withoutWide(f func()) {
	was := wide
	wide = false
	defer func() { wide = was }()
	f()
}
