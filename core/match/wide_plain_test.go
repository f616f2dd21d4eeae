//go:build !amd64 || purego

package match

func withoutWide(f func()) { f() }
