//go:build amd64 && !purego

#include "go_asm.h"
#include "textflag.h"

DATA newlines<>+0(SB)/8, $0x0a0a0a0a0a0a0a0a
DATA newlines<>+8(SB)/8, $0x0a0a0a0a0a0a0a0a
DATA newlines<>+16(SB)/8, $0x0a0a0a0a0a0a0a0a
DATA newlines<>+24(SB)/8, $0x0a0a0a0a0a0a0a0a
GLOBL newlines<>(SB), RODATA|NOPTR, $32

// func lineStarts(b []byte, starts []uint32) (n, seen int)
//
// Two line ends of each step are noted without asking whether there are any: the count
// alone says what was noted, and mostly there are no more.
TEXT ·lineStarts(SB), NOSPLIT, $0-64
	MOVQ b_base+0(FP), SI
	MOVQ b_len+8(FP), R13
	MOVQ starts_base+24(FP), DI
	MOVQ starts_len+32(FP), R12
	SUBQ $64, R13             // the last step begins here at the latest
	SUBQ $65, R12             // so many may have been noted before it
	XORQ R8, R8               // seen
	XORQ DX, DX               // n
	VMOVDQU newlines<>(SB), Y7

step:
	CMPQ R8, R13
	JGT  done
	CMPQ DX, R12
	JGT  done
	VPCMPEQB (SI)(R8*1), Y7, Y0
	VPCMPEQB 32(SI)(R8*1), Y7, Y1
	VPMOVMSKB Y0, AX
	VPMOVMSKB Y1, CX
	SHLQ $32, CX
	ORQ  CX, AX               // a bit for each line end
	POPCNTQ AX, R9
	LEAQ (DI)(DX*4), R11
	ADDQ R9, DX
	TZCNTQ AX, CX
	LEAL 1(R8)(CX*1), R10
	MOVL R10, (R11)
	BLSRQ AX, AX
	TZCNTQ AX, CX
	LEAL 1(R8)(CX*1), R10
	MOVL R10, 4(R11)
	CMPQ R9, $2
	JGT  more
	ADDQ $64, R8
	JMP  step

more:
	ADDQ $8, R11

each:
	BLSRQ AX, AX
	JZ   all
	TZCNTQ AX, CX
	LEAL 1(R8)(CX*1), R10
	MOVL R10, (R11)
	ADDQ $4, R11
	JMP  each

all:
	ADDQ $64, R8
	JMP  step

done:
	VZEROUPPER
	MOVQ DX, n+48(FP)
	MOVQ R8, seen+56(FP)
	RET

// func glances(b []byte, starts []uint32, look *glanced) int
TEXT ·glances(SB), NOSPLIT, $0-64
	MOVQ b_base+0(FP), SI
	MOVQ starts_base+24(FP), DI
	MOVQ starts_len+32(FP), R13
	MOVQ look+48(FP), BX
	VMOVDQU glanced_low(BX), Y2         // low, then high
	VMOVDQU glanced_low+32(BX), X3
	VMOVDQU glanced_high(BX), Y4
	VMOVDQU glanced_high+32(BX), X5
	ADDQ glanced_at(BX), SI           // where the seconds of a line that begins at 0 stand
	MOVQ glanced_first(BX), R8          // the masks
	MOVQ glanced_second(BX), R9
	MOVQ glanced_top(BX), R10         // top, topBehind, topLine, least
	MOVQ glanced_topBehind(BX), R11
	MOVQ glanced_topLine(BX), R12
	MOVQ glanced_least(BX), R15
	XORQ DX, DX

line:
	CMPQ DX, R13
	JGE  done
	MOVL (DI)(DX*4), AX
	ADDQ SI, AX
	MOVQ AX, CX
	SUBQ glanced_at(BX), CX           // the line itself
	VMOVDQU (CX), Y0
	VMOVDQU 32(CX), X6
	VPMAXUB Y2, Y0, Y1
	VPMINUB Y4, Y1, Y1
	VPMAXUB X3, X6, X7
	VPMINUB X5, X7, X7
	VPXOR Y0, Y1, Y1          // not null where a byte does not lie between
	VPXOR X6, X7, X7
	VPOR  Y1, Y7, Y7
	VPTEST Y7, Y7
	JNZ  done
	MOVQ (AX), CX
	BSWAPQ CX
	ANDQ R8, CX
	MOVQ 8(AX), AX
	BSWAPQ AX
	ANDQ R9, AX
	CMPQ CX, R15
	CMOVQCS CX, R15
	CMPQ R11, AX
	MOVQ R10, R14
	SBBQ CX, R14              // the latest one is earlier than this one
	CMOVQCS CX, R10
	CMOVQCS AX, R11
	CMOVQCS DX, R12
	INCQ DX
	JMP  line

done:
	VZEROUPPER
	MOVQ R10, glanced_top(BX)
	MOVQ R11, glanced_topBehind(BX)
	MOVQ R12, glanced_topLine(BX)
	MOVQ R15, glanced_least(BX)
	MOVQ DX, ret+56(FP)
	RET

// func nextPair(b []byte, dist int, first, last byte) (at, seen int)
TEXT ·nextPair(SB), NOSPLIT, $0-56
	MOVQ b_base+0(FP), SI
	MOVQ b_len+8(FP), R13
	MOVQ dist+24(FP), R8
	MOVBLZX first+32(FP), AX
	VMOVD AX, X7
	VPBROADCASTB X7, Y7
	MOVBLZX last+33(FP), AX
	VMOVD AX, X6
	VPBROADCASTB X6, Y6
	SUBQ R8, R13
	SUBQ $32, R13             // the last step begins here at the latest
	LEAQ (SI)(R8*1), DI
	XORQ DX, DX               // seen

pairs:
	CMPQ DX, R13
	JGT  none
	VPCMPEQB (SI)(DX*1), Y7, Y0
	VPCMPEQB (DI)(DX*1), Y6, Y1
	VPAND Y0, Y1, Y0
	VPMOVMSKB Y0, AX
	TESTL AX, AX
	JNZ  one
	ADDQ $32, DX
	JMP  pairs

one:
	TZCNTL AX, AX
	ADDQ DX, AX
	MOVQ AX, at+40(FP)
	MOVQ DX, seen+48(FP)
	VZEROUPPER
	RET

none:
	MOVQ $-1, at+40(FP)
	MOVQ DX, seen+48(FP)
	VZEROUPPER
	RET

DATA marks<>+0(SB)/8, $0x2222222222222222   // quotes
DATA marks<>+8(SB)/8, $0x2222222222222222
DATA marks<>+16(SB)/8, $0x2222222222222222
DATA marks<>+24(SB)/8, $0x2222222222222222
DATA marks<>+32(SB)/8, $0x5c5c5c5c5c5c5c5c  // backslashes
DATA marks<>+40(SB)/8, $0x5c5c5c5c5c5c5c5c
DATA marks<>+48(SB)/8, $0x5c5c5c5c5c5c5c5c
DATA marks<>+56(SB)/8, $0x5c5c5c5c5c5c5c5c
DATA marks<>+64(SB)/8, $0x1f1f1f1f1f1f1f1f  // the last of the control characters
DATA marks<>+72(SB)/8, $0x1f1f1f1f1f1f1f1f
DATA marks<>+80(SB)/8, $0x1f1f1f1f1f1f1f1f
DATA marks<>+88(SB)/8, $0x1f1f1f1f1f1f1f1f
GLOBL marks<>(SB), RODATA|NOPTR, $96

// func markAt(b []byte) int
TEXT ·markAt(SB), NOSPLIT, $0-32
	MOVQ b_base+0(FP), SI
	MOVQ b_len+8(FP), R13
	SUBQ $32, R13             // the last step begins here at the latest
	XORQ DX, DX
	VMOVDQU marks<>+0(SB), Y1
	VMOVDQU marks<>+32(SB), Y2
	VMOVDQU marks<>+64(SB), Y3

text:
	CMPQ DX, R13
	JGT  out
	VMOVDQU (SI)(DX*1), Y0
	VPCMPEQB Y0, Y1, Y4
	VPCMPEQB Y0, Y2, Y5
	VPCMPGTB Y3, Y0, Y0       // printable: with a sign, what is not ASCII is less
	VPOR Y4, Y5, Y4
	VPANDN Y0, Y4, Y4         // printable, and neither
	VPMOVMSKB Y4, AX
	NOTL AX
	TESTL AX, AX
	JNZ  found
	ADDQ $32, DX
	JMP  text

found:
	TZCNTL AX, AX
	ADDQ AX, DX

out:
	VZEROUPPER
	MOVQ DX, ret+24(FP)
	RET
