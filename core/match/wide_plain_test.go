//go:build !amd64

package match

func withoutWide(f func()) { f() }
