//go:build !amd64

package match

func look(f *filter, or, and uint32, slab []byte, p, stride int, out *found) (next, n int) {
	return lookPlain(f, or, and, slab, p, stride, out)
}
