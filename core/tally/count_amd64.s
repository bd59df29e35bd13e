#include "textflag.h"

// 32 bytes of zeros, then 32 of ones: read from byte n on, the last n are ones.
DATA ·tail<>+0(SB)/8, $0
DATA ·tail<>+8(SB)/8, $0
DATA ·tail<>+16(SB)/8, $0
DATA ·tail<>+24(SB)/8, $0
DATA ·tail<>+32(SB)/8, $-1
DATA ·tail<>+40(SB)/8, $-1
DATA ·tail<>+48(SB)/8, $-1
DATA ·tail<>+56(SB)/8, $-1
GLOBL ·tail<>(SB), RODATA|NOPTR, $64

// A byte that equals the value compares as -1, which is subtracted from the value's counters.
#define COUNT(value, counters) \
	VPCMPEQB value, Y12, Y13        \
	VPSUBB   Y13, counters, counters

#define COUNTTAIL(value, counters) \
	VPCMPEQB value, Y12, Y13        \
	VPAND    Y15, Y13, Y13          \
	VPSUBB   Y13, counters, counters

// Adds the 32 counters up to four words, and these to the value's sums.
#define STORE(counters, at) \
	VPSADBW  Y15, counters, Y13 \
	VPADDQ   at(DI), Y13, Y13   \
	VMOVDQU  Y13, at(DI)

// func countBytes(wide *uint8, sums *uint64, groups int, cells *uint8, stretches *zone.Stretch, count int)
TEXT ·countBytes(SB), NOSPLIT, $0-48
	MOVQ wide+0(FP), SI
	MOVQ sums+8(FP), DI
	MOVQ groups+16(FP), DX
	LEAQ ·tail<>(SB), R10

group:
	MOVQ cells+24(FP), R8
	MOVQ stretches+32(FP), R11
	MOVQ count+40(FP), R12
	VMOVDQU 0(SI), Y0
	VMOVDQU 32(SI), Y1
	VMOVDQU 64(SI), Y2
	VMOVDQU 96(SI), Y3
	VMOVDQU 128(SI), Y4
	VMOVDQU 160(SI), Y5
	VPXOR   Y6, Y6, Y6
	VPXOR   Y7, Y7, Y7
	VPXOR   Y8, Y8, Y8
	VPXOR   Y9, Y9, Y9
	VPXOR   Y10, Y10, Y10
	VPXOR   Y11, Y11, Y11

stretch:
	MOVLQSX 0(R11), AX
	MOVLQSX 4(R11), CX
	ADDQ    R8, AX
	MOVQ    CX, BX
	SHRQ    $5, BX // whole vectors
	ANDQ    $31, CX // bytes behind them
	TESTQ   BX, BX
	JZ      rest

vector:
	VMOVDQU (AX), Y12
	COUNT(Y0, Y6)
	COUNT(Y1, Y7)
	COUNT(Y2, Y8)
	COUNT(Y3, Y9)
	COUNT(Y4, Y10)
	COUNT(Y5, Y11)
	ADDQ    $32, AX
	DECQ    BX
	JNZ     vector

rest:
	TESTQ CX, CX
	JZ    next
	VMOVDQU -32(AX)(CX*1), Y12
	VMOVDQU (R10)(CX*1), Y15
	COUNTTAIL(Y0, Y6)
	COUNTTAIL(Y1, Y7)
	COUNTTAIL(Y2, Y8)
	COUNTTAIL(Y3, Y9)
	COUNTTAIL(Y4, Y10)
	COUNTTAIL(Y5, Y11)

next:
	ADDQ $8, R11
	DECQ R12
	JNZ  stretch

	VPXOR Y15, Y15, Y15
	STORE(Y6, 0)
	STORE(Y7, 32)
	STORE(Y8, 64)
	STORE(Y9, 96)
	STORE(Y10, 128)
	STORE(Y11, 160)
	ADDQ  $192, SI
	ADDQ  $192, DI
	DECQ  DX
	JNZ   group
	VZEROUPPER
	RET
