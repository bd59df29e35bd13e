#include "textflag.h"

// One more layer: ANDs to Y0 and Y1 where its 64 bytes equal the ones after them, and to Y2 and Y3 where they equal those of the first layer, Y4 and Y5.
#define LAYER(row, at) \
	VMOVDQU  (row)(at*1), Y6      \
	VMOVDQU  32(row)(at*1), Y7    \
	VPCMPEQB 1(row)(at*1), Y6, Y8 \
	VPCMPEQB 33(row)(at*1), Y7, Y9 \
	VPCMPEQB Y4, Y6, Y6     \
	VPCMPEQB Y5, Y7, Y7     \
	VPAND    Y8, Y0, Y0     \
	VPAND    Y9, Y1, Y1     \
	VPAND    Y6, Y2, Y2     \
	VPAND    Y7, Y3, Y3

// The bits of two vectors, inverted.
#define BITS(low, high, to, room) \
	VPMOVMSKB low, to   \
	VPMOVMSKB high, room \
	SHLQ      $32, room \
	ORQ       room, to  \
	NOTQ      to

// func differWords(masks, ends *uint64, rows **uint8, layers, n int) (all, differing int)
TEXT ·differWords(SB), NOSPLIT, $0-56
	MOVQ masks+0(FP), DI
	MOVQ ends+8(FP), SI
	MOVQ rows+16(FP), R9
	MOVQ layers+24(FP), R10
	MOVQ n+32(FP), CX
	MOVQ (R9), R8
	XORQ R11, R11
	XORQ R12, R12
	XORQ R14, R14 // the column

differ:
	VMOVDQU   (R8)(R14*1), Y4
	VMOVDQU   32(R8)(R14*1), Y5
	VPCMPEQB  1(R8)(R14*1), Y4, Y0
	VPCMPEQB  33(R8)(R14*1), Y5, Y1
	VPCMPEQB  Y2, Y2, Y2
	VPCMPEQB  Y3, Y3, Y3
	MOVQ      $1, R13

layer:
	MOVQ      (R9)(R13*8), AX
	LAYER(AX, R14)
	INCQ      R13
	CMPQ      R13, R10
	JLT       layer
	ADDQ      $64, R14
	BITS(Y0, Y1, AX, BX)
	MOVQ      AX, (SI)
	POPCNTQ   AX, BX
	ADDQ      BX, R11
	BITS(Y2, Y3, R13, BX)
	MOVQ      R13, (DI)
	ANDQ      AX, R13
	POPCNTQ   R13, BX
	ADDQ      BX, R12
	ADDQ      $8, DI
	ADDQ      $8, SI
	DECQ      CX
	JNZ       differ
	MOVQ      R11, all+40(FP)
	MOVQ      R12, differing+48(FP)
	VZEROUPPER
	RET

// A quarter of one more layer, without AVX2: as LAYER, for 16 bytes.
#define QUARTER(at, same, equal) \
	MOVOU   at(AX)(R14*1), X8     \
	MOVOU   1+at(AX)(R14*1), X9   \
	PCMPEQB X8, X9               \
	PAND    X9, same             \
	MOVOU   at(R8)(R14*1), X9     \
	PCMPEQB X9, X8               \
	PAND    X8, equal

// The bits of four vectors, inverted.
#define QUARTERS(a, b, c, d, to, room) \
	PMOVMSKB d, to    \
	SHLQ     $16, to  \
	PMOVMSKB c, room  \
	ORQ      room, to \
	SHLQ     $16, to  \
	PMOVMSKB b, room  \
	ORQ      room, to \
	SHLQ     $16, to  \
	PMOVMSKB a, room  \
	ORQ      room, to \
	NOTQ     to

// func differQuarters(masks, ends *uint64, rows **uint8, layers, n int) (all, differing int)
// The same with the vectors of every amd64.
TEXT ·differQuarters(SB), NOSPLIT, $0-56
	MOVQ masks+0(FP), DI
	MOVQ ends+8(FP), SI
	MOVQ rows+16(FP), R9
	MOVQ layers+24(FP), R10
	MOVQ n+32(FP), CX
	MOVQ (R9), R8
	XORQ R11, R11
	XORQ R12, R12
	XORQ R14, R14 // the column

quarters:
	PCMPEQB X0, X0
	MOVO    X0, X1
	MOVO    X0, X2
	MOVO    X0, X3
	MOVO    X0, X4
	MOVO    X0, X5
	MOVO    X0, X6
	MOVO    X0, X7
	XORQ    R13, R13

one:
	MOVQ (R9)(R13*8), AX
	QUARTER(0, X0, X4)
	QUARTER(16, X1, X5)
	QUARTER(32, X2, X6)
	QUARTER(48, X3, X7)
	INCQ R13
	CMPQ R13, R10
	JLT  one
	ADDQ $64, R14
	QUARTERS(X0, X1, X2, X3, AX, BX)
	MOVQ AX, (SI)
	POPCNTQ AX, BX
	ADDQ BX, R11
	QUARTERS(X4, X5, X6, X7, R13, BX)
	MOVQ R13, (DI)
	ANDQ AX, R13
	POPCNTQ R13, BX
	ADDQ BX, R12
	ADDQ $8, DI
	ADDQ $8, SI
	DECQ CX
	JNZ  quarters
	MOVQ R11, all+40(FP)
	MOVQ R12, differing+48(FP)
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

// The next lower byte of a word: that of a row at column BX.
#define BYTE(row, word) \
	SHLQ $8, word       \
	MOVB (row)(BX*1), word

// func combineFour(words *uint64, ends *int32, n int, rows **uint8, mask uint64)
// For each of n ends the bytes of four rows before it, that of the first row lowest, as far as mask has their bits.
TEXT ·combineFour(SB), NOSPLIT, $0-40
	MOVQ words+0(FP), DI
	MOVQ ends+8(FP), SI
	MOVQ n+16(FP), CX
	MOVQ rows+24(FP), DX
	MOVQ 0(DX), R8
	MOVQ 8(DX), R9
	MOVQ 16(DX), R10
	MOVQ 24(DX), R11
	MOVQ mask+32(FP), DX

four:
	MOVL    (SI), BX
	DECQ    BX
	MOVBLZX (R11)(BX*1), AX
	BYTE(R10, AX)
	BYTE(R9, AX)
	BYTE(R8, AX)
	ANDQ    DX, AX
	MOVQ    AX, (DI)
	ADDQ    $4, SI
	ADDQ    $8, DI
	DECQ    CX
	JNZ     four
	RET

// func combineEight(words *uint64, ends *int32, n int, rows **uint8, mask uint64)
// The same of eight rows: two halves, so that they need not wait for one another.
TEXT ·combineEight(SB), NOSPLIT, $8-40
	MOVQ words+0(FP), DI
	MOVQ ends+8(FP), SI
	MOVQ n+16(FP), CX
	MOVQ mask+32(FP), DX
	MOVQ DX, kept-8(SP)
	MOVQ rows+24(FP), DX
	MOVQ 0(DX), R8
	MOVQ 8(DX), R9
	MOVQ 16(DX), R10
	MOVQ 24(DX), R11
	MOVQ 32(DX), R12
	MOVQ 40(DX), R13
	MOVQ 48(DX), R15
	MOVQ 56(DX), DX

eight:
	MOVL    (SI), BX
	DECQ    BX
	ADDQ    $4, SI
	MOVBLZX (R11)(BX*1), AX
	BYTE(R10, AX)
	BYTE(R9, AX)
	BYTE(R8, AX)
	MOVQ    AX, (DI)
	MOVBLZX (DX)(BX*1), AX
	BYTE(R15, AX)
	BYTE(R13, AX)
	BYTE(R12, AX)
	SHLQ    $32, AX
	ORQ     (DI), AX
	ANDQ    kept-8(SP), AX
	MOVQ    AX, (DI)
	ADDQ    $8, DI
	DECQ    CX
	JNZ     eight
	RET
