#include "textflag.h"

// The hash of a position's bytes is in CX: note the position in R8, move on to the next
// one, and count in DX if the filter's bit is set.
#define NOTE \
	MOVL R8, (DI)(DX*4); \
	ADDQ R9, R8; \
	MOVL CX, R15; \
	SHRL $22, R15; \
	MOVQ (BX)(R15*8), R15; \
	SHRL $16, CX; \
	BTQ CX, R15; \
	ADCQ $0, DX

#define HASH(word) \
	MOVL word, CX; \
	IMUL3L $-0x61C8864F, CX, CX

#define MASKED(word) \
	MOVL word, CX; \
	ORL R11, CX; \
	ANDL R12, CX; \
	IMUL3L $-0x61C8864F, CX, CX

// func look(f *filter, or, and uint32, slab []byte, p, stride int, out *found) (next, n int)
TEXT ·look(SB), NOSPLIT, $0-80
	MOVQ f+0(FP), BX
	MOVL or+8(FP), R11
	MOVL and+12(FP), R12
	MOVQ slab_base+16(FP), SI
	MOVQ slab_len+24(FP), R13
	MOVQ p+40(FP), R8
	MOVQ stride+48(FP), R9
	MOVQ out+56(FP), DI
	LEAQ (R9)(R9*2), R10  // three strides
	SUBQ R10, R13
	SUBQ $4, R13          // the last place from which four positions have their bytes
	XORQ DX, DX
	MOVL R12, CX          // where nothing is folded or cut, the bytes are taken as they are
	NOTL CX
	ORL  R11, CX
	JZ   whole

masked:
	CMPQ R8, R13
	JGT  done
	CMPQ DX, $508
	JGT  done
	LEAQ (SI)(R8*1), AX
	MASKED((AX))
	NOTE
	MASKED((AX)(R9*1))
	NOTE
	MASKED((AX)(R9*2))
	NOTE
	MASKED((AX)(R10*1))
	NOTE
	JMP  masked

whole:
	CMPQ R8, R13
	JGT  done
	CMPQ DX, $508
	JGT  done
	LEAQ (SI)(R8*1), AX
	HASH((AX))
	NOTE
	HASH((AX)(R9*1))
	NOTE
	HASH((AX)(R9*2))
	NOTE
	HASH((AX)(R10*1))
	NOTE
	JMP  whole

done:
	MOVQ R8, next+64(FP)
	MOVQ DX, n+72(FP)
	RET
