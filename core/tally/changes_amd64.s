#include "textflag.h"

// func changeWords(dst *uint64, row *uint8, n int)
// For each of n·64 bytes of row, sets a bit where the byte differs from the one after it.
// SSE2 only, which every amd64 has.
TEXT ·changeWords(SB), NOSPLIT, $0-24
	MOVQ dst+0(FP), DI
	MOVQ row+8(FP), SI
	MOVQ n+16(FP), CX

loop:
	MOVOU    (SI), X0
	MOVOU    1(SI), X1
	MOVOU    16(SI), X2
	MOVOU    17(SI), X3
	MOVOU    32(SI), X4
	MOVOU    33(SI), X5
	MOVOU    48(SI), X6
	MOVOU    49(SI), X7
	PCMPEQB  X1, X0
	PCMPEQB  X3, X2
	PCMPEQB  X5, X4
	PCMPEQB  X7, X6
	PMOVMSKB X0, AX
	PMOVMSKB X2, BX
	PMOVMSKB X4, DX
	PMOVMSKB X6, R8
	SHLQ     $16, BX
	SHLQ     $32, DX
	SHLQ     $48, R8
	ORQ      BX, AX
	ORQ      R8, DX
	ORQ      DX, AX
	NOTQ     AX
	MOVQ     AX, (DI)
	ADDQ     $8, DI
	ADDQ     $64, SI
	DECQ     CX
	JNZ      loop
	RET

// One more row of a layer: ANDs to Y0 and Y1 where its 64 bytes equal the ones after them.
#define LAYER(row) \
	VMOVDQU  (row), Y2        \
	VPCMPEQB 1(row), Y2, Y2   \
	VMOVDQU  32(row), Y3      \
	VPCMPEQB 33(row), Y3, Y3  \
	VPAND    Y2, Y0, Y0       \
	VPAND    Y3, Y1, Y1       \
	ADDQ     $64, row

// func changeWords3(dst *uint64, a, b, c *uint8, n int)
// For each of n·64 places sets a bit where a byte of any of the rows differs from the one after it.
TEXT ·changeWords3(SB), NOSPLIT, $0-40
	MOVQ dst+0(FP), DI
	MOVQ a+8(FP), R8
	MOVQ b+16(FP), R9
	MOVQ c+24(FP), R10
	MOVQ n+32(FP), CX

loop3:
	VPCMPEQB  Y0, Y0, Y0
	VPCMPEQB  Y1, Y1, Y1
	LAYER(R8)
	LAYER(R9)
	LAYER(R10)
	VPMOVMSKB Y0, AX
	VPMOVMSKB Y1, BX
	SHLQ      $32, BX
	ORQ       BX, AX
	NOTQ      AX
	MOVQ      AX, (DI)
	ADDQ      $8, DI
	DECQ      CX
	JNZ       loop3
	VZEROUPPER
	RET

#define NEXT(at) \
	TZCNTQ AX, BX     \
	ADDL   R8, BX     \
	MOVL   BX, at(R11) \
	LEAQ   -1(AX), R12 \
	ANDQ   R12, AX

// func flattenWords(ends, rank *int32, mask *uint64, words int) int
// Lists 64·w+i+1 for every bit i of every word w of mask, and in rank how many come before each
// word; returns their number. Writes eight for each word, also when there are fewer, and so up to
// seven too many at the end. On a processor without TZCNT the same bytes are BSF, which does as
// well here: what it leaves for 0 is overwritten.
TEXT ·flattenWords(SB), NOSPLIT, $0-40
	MOVQ ends+0(FP), DI
	MOVQ rank+8(FP), SI
	MOVQ mask+16(FP), DX
	MOVQ words+24(FP), CX
	MOVQ DI, R9
	MOVL $1, R8

word:
	MOVQ    (DX), AX
	MOVQ    DI, BX
	SUBQ    R9, BX
	SHRQ    $2, BX
	MOVL    BX, (SI)
	POPCNTQ AX, R10
	MOVQ    DI, R11

eight:
	NEXT(0)
	NEXT(4)
	NEXT(8)
	NEXT(12)
	NEXT(16)
	NEXT(20)
	NEXT(24)
	NEXT(28)
	ADDQ  $32, R11
	TESTQ AX, AX
	JNZ   eight
	LEAQ  (DI)(R10*4), DI
	ADDL  $64, R8
	ADDQ  $4, SI
	ADDQ  $8, DX
	DECQ  CX
	JNZ   word
	SUBQ  R9, DI
	SHRQ  $2, DI
	MOVQ  DI, ret+32(FP)
	RET
