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
