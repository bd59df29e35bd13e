#include "textflag.h"

// func lookUpBytes(dst, src *uint8, n int, parts *tablePart, known int, base uint8, add, keep bool)
// For each part, the bytes whose upper half is that of the part take what it has for their lower half.
TEXT ·lookUpBytes(SB), NOSPLIT, $0-43
	MOVQ         dst+0(FP), DI
	MOVQ         src+8(FP), SI
	MOVQ         n+16(FP), CX
	MOVQ         parts+24(FP), DX
	MOVQ         known+32(FP), R8
	VPBROADCASTB base+40(FP), Y6
	MOVBQZX      add+41(FP), R9
	MOVBQZX      keep+42(FP), AX
	NEGQ         AX
	MOVQ         AX, X8
	VPBROADCASTD X8, Y8 // all bits, or none
	MOVL         $0x0f0f0f0f, AX
	MOVQ         AX, X7
	VPBROADCASTD X7, Y7

vector:
	VMOVDQU (SI), Y0
	VPAND   Y7, Y0, Y1 // lower halves
	VPXOR   Y1, Y0, Y2 // upper halves
	VPAND   Y8, Y0, Y3
	VPXOR   Y6, Y3, Y3
	MOVQ    DX, R10
	MOVQ    R8, R11
	TESTQ   R11, R11
	JZ      store

part:
	VBROADCASTI128 (R10), Y4
	VPSHUFB        Y1, Y4, Y4
	VPCMPEQB       16(R10), Y2, Y5
	VPAND          Y5, Y4, Y4
	VPXOR          Y4, Y3, Y3
	ADDQ           $48, R10
	DECQ           R11
	JNZ            part

store:
	TESTQ  R9, R9
	JZ     set
	VPADDB (DI), Y3, Y3

set:
	VMOVDQU Y3, (DI)
	ADDQ    $32, SI
	ADDQ    $32, DI
	SUBQ    $32, CX
	JNZ     vector
	VZEROUPPER
	RET
