package steps

import (
	"encoding/binary"
	"math/bits"
)

// matchLine is match of a line without a line end in it, of steps none of which may be skipped, from p on.
func matchLine(ops []step, line []byte, p int, spans []int) bool {
	const ones, above, highs = 0x0101010101010101, 0x21, 0x8080808080808080
	for i := range ops {
		op := &ops[i]
		switch op.kind {
		case stepGroup, stepRun:
			from := p
			class := op.class
			switch {
			case op.line:
				p = len(line)
			case op.wide:
				for len(line)-p >= 8 {
					w := binary.LittleEndian.Uint64(line[p:])
					low := (w - above*ones) &^ w & highs // the first one that is set is a byte below
					if low == 0 {
						p += 8
						continue
					}
					p += bits.TrailingZeros64(low) / 8
					if !class[line[p]] {
						goto ended
					}
					p++
				}
				fallthrough
			default:
				for p < len(line) && class[line[p]] {
					p++
				}
			}
		ended:
			if p-from < op.min {
				return false
			}
			if op.kind == stepGroup {
				spans[2*op.group], spans[2*op.group+1] = from, p
			}
			switch len(op.then) {
			case 0:
			case 1:
				if p >= len(line) || line[p] != op.then[0] {
					return false
				}
				p++
			default:
				if !begins(line, p, op.then) {
					return false
				}
				p += len(op.then)
			}
		case stepLiteral:
			if !begins(line, p, op.text) {
				return false
			}
			p += len(op.text)
		case stepOne:
			if p >= len(line) || !op.class[line[p]] {
				return false
			}
			p++
		case stepOpen:
			spans[2*op.group] = p
		case stepShut:
			spans[2*op.group+1] = p
		case stepEnd:
			if p != len(line) {
				return false
			}
		}
	}
	return true
}
