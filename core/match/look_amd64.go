package match

// look is lookPlain, four positions at a time.
//
//go:noescape
func look(f *filter, or, and uint32, slab []byte, p, stride int, out *found) (next, n int)
