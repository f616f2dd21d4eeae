//go:build amd64 && !purego

#include "go_asm.h"
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
	CMPQ DX, $480
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
	CMPQ DX, $480
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

DATA halves<>+0(SB)/8, $0x0f0f0f0f0f0f0f0f
DATA halves<>+8(SB)/8, $0x0f0f0f0f0f0f0f0f
DATA halves<>+16(SB)/8, $0x0f0f0f0f0f0f0f0f
DATA halves<>+24(SB)/8, $0x0f0f0f0f0f0f0f0f
GLOBL halves<>(SB), RODATA|NOPTR, $32

// The sorts that the 32 bytes at a place leave, by the tables of that place, into a register.
#define SIFT(bytes, low, high, into) \
	VMOVDQU bytes, Y9; \
	VPSRLW $4, Y9, Y10; \
	VPAND Y8, Y9, Y9; \
	VPAND Y8, Y10, Y10; \
	VPSHUFB Y9, low, Y9; \
	VPSHUFB Y10, high, Y10; \
	VPAND Y9, Y10, into

// Note the position of the lowest bit in AX, counted from 32 before R8, and take it away.
#define NOTELOWEST \
	TZCNTL AX, CX; \
	LEAL -32(R8)(CX*1), CX; \
	MOVL CX, (DI)(DX*4); \
	INCQ DX; \
	BLSRL AX, AX

// func sift(t *tables, places int, slab []byte, p int, out *found) (next, n int)
TEXT ·sift(SB), NOSPLIT, $0-72
	MOVQ t+0(FP), BX
	MOVQ places+8(FP), R9
	MOVQ slab_base+16(FP), SI
	MOVQ slab_len+24(FP), R13
	MOVQ p+40(FP), R8
	MOVQ out+48(FP), DI
	SUBQ $35, R13             // the last place from which 32 positions have their bytes
	XORQ DX, DX
	VMOVDQU 0(BX), Y0
	VMOVDQU 32(BX), Y1
	VMOVDQU 64(BX), Y2
	VMOVDQU 96(BX), Y3
	VMOVDQU 128(BX), Y4
	VMOVDQU 160(BX), Y5
	VMOVDQU 192(BX), Y6
	VMOVDQU 224(BX), Y7
	VMOVDQU halves<>(SB), Y8
	VPXOR Y13, Y13, Y13

	CMPQ R9, $4
	JLT  three

four:
	CMPQ R8, R13
	JGT  done
	CMPQ DX, $480
	JGT  done
	LEAQ (SI)(R8*1), AX
	SIFT((AX), Y0, Y1, Y11)
	SIFT(1(AX), Y2, Y3, Y12)
	VPAND Y11, Y12, Y11
	SIFT(2(AX), Y4, Y5, Y12)
	VPAND Y11, Y12, Y11
	SIFT(3(AX), Y6, Y7, Y12)
	VPAND Y11, Y12, Y11
	VPCMPEQB Y11, Y13, Y11    // where no sort is left
	VPMOVMSKB Y11, AX
	ADDQ $32, R8
	XORL $-1, AX
	JZ   four

notefour:
	NOTELOWEST
	JNZ  notefour
	JMP  four

three:
	CMPQ R8, R13
	JGT  done
	CMPQ DX, $480
	JGT  done
	LEAQ (SI)(R8*1), AX
	SIFT((AX), Y0, Y1, Y11)
	SIFT(1(AX), Y2, Y3, Y12)
	VPAND Y11, Y12, Y11
	SIFT(2(AX), Y4, Y5, Y12)
	VPAND Y11, Y12, Y11
	VPCMPEQB Y11, Y13, Y11
	VPMOVMSKB Y11, AX
	ADDQ $32, R8
	XORL $-1, AX
	JZ   three

notethree:
	NOTELOWEST
	JNZ  notethree
	JMP  three

done:
	VZEROUPPER
	MOVQ R8, next+56(FP)
	MOVQ DX, n+64(FP)
	RET

// func asciiUpTo(b []byte) int
TEXT ·asciiUpTo(SB), NOSPLIT, $0-32
	MOVQ b_base+0(FP), SI
	MOVQ b_len+8(FP), R13
	SUBQ $128, R13
	XORQ R8, R8

step:
	CMPQ R8, R13
	JGT  done
	VMOVDQU (SI)(R8*1), Y0
	VPOR 32(SI)(R8*1), Y0, Y0
	VPOR 64(SI)(R8*1), Y0, Y0
	VPOR 96(SI)(R8*1), Y0, Y0
	VPMOVMSKB Y0, AX
	TESTL AX, AX
	JNZ  done
	ADDQ $128, R8
	JMP  step

done:
	VZEROUPPER
	MOVQ R8, ret+24(FP)
	RET

// The 32 positions from a place of which both bytes are as they are looked for, into a register.
#define BOTH(first, second, into) \
	VPOR first, Y2, Y4; \
	VPOR second, Y2, Y5; \
	VPCMPEQB Y4, Y0, Y4; \
	VPCMPEQB Y5, Y1, Y5; \
	VPAND Y4, Y5, into

// func twos(t *two, slab []byte, p int, out *found) (next, n int)
TEXT ·twos(SB), NOSPLIT, $0-64
	MOVQ t+0(FP), BX
	MOVQ slab_base+8(FP), SI
	MOVQ slab_len+16(FP), R13
	MOVQ p+32(FP), R8
	MOVQ out+40(FP), DI
	VPBROADCASTB two_first(BX), Y0
	VPBROADCASTB two_second(BX), Y1
	VPBROADCASTB two_or(BX), Y2
	MOVBLZX two_apart(BX), R9
	SUBQ R9, R13
	SUBQ $64, R13             // the last place from which 64 positions have both bytes
	LEAQ (SI)(R9*1), R10
	XORQ DX, DX

both:
	CMPQ R8, R13
	JGT  done
	BOTH((SI)(R8*1), (R10)(R8*1), Y6)
	BOTH(32(SI)(R8*1), 32(R10)(R8*1), Y7)
	VPOR Y6, Y7, Y8
	VPMOVMSKB Y8, AX
	ADDQ $64, R8
	TESTL AX, AX
	JZ   both
	VPMOVMSKB Y6, AX
	VPMOVMSKB Y7, R11
	SHLQ $32, R11
	ORQ  R11, AX

note:
	TZCNTQ AX, CX
	LEAL -64(R8)(CX*1), CX
	MOVL CX, (DI)(DX*4)
	INCQ DX
	BLSRQ AX, AX
	JNZ  note
	CMPQ DX, $448             // there is room for 64 more
	JLE  both

done:
	VZEROUPPER
	MOVQ R8, next+48(FP)
	MOVQ DX, n+56(FP)
	RET
