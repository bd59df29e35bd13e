#include "textflag.h"

// func unequalWords(dst *uint64, a, b *uint8, words int)
// SSE2 only, which every amd64 has.
TEXT ·unequalWords(SB), NOSPLIT, $0-32
	MOVQ dst+0(FP), DI
	MOVQ a+8(FP), SI
	MOVQ b+16(FP), R9
	MOVQ words+24(FP), CX

loop:
	MOVOU    (SI), X0
	MOVOU    (R9), X1
	MOVOU    16(SI), X2
	MOVOU    16(R9), X3
	MOVOU    32(SI), X4
	MOVOU    32(R9), X5
	MOVOU    48(SI), X6
	MOVOU    48(R9), X7
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
	ADDQ     $64, R9
	DECQ     CX
	JNZ      loop
	RET
