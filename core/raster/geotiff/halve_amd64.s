#include "textflag.h"

// KEY makes nodata the greatest of all bytes, and keeps the order of the others.
#define KEY(V) \
	MOVOA   V, X8   \
	PMAXUB  X13, X8 \
	PCMPEQB V, X8   \ // all bits where a byte is greater than nodata
	MOVOA   V, X9   \
	PCMPEQB X14, X9 \
	PADDB   X8, V   \
	POR     X9, V

// ORDER puts the lesser bytes into A and the greater ones into B.
#define ORDER(A, B) \
	MOVOA  A, X1 \
	PMINUB B, A  \
	PMAXUB X1, B

// func halveBytes(d, a, b *uint8, n int, nodata uint8, some, key bool)
//
// Of four bytes in order, two neighbours that are alike are the most there are, those that come first winning a tie; where none are, the first is the lowest.
TEXT ·halveBytes(SB), NOSPLIT, $0-35
	MOVQ    d+0(FP), DI
	MOVQ    a+8(FP), SI
	MOVQ    b+16(FP), DX
	MOVQ    n+24(FP), CX
	MOVBLZX nodata+32(FP), AX
	MOVBLZX some+33(FP), BX
	MOVBLZX key+34(FP), R8
	PCMPEQB X11, X11
	MOVOA   X11, X15
	PSRLW   $8, X15          // the even bytes
	IMULL   $0x01010101, AX
	MOVL    AX, X14
	PSHUFL  $0, X14, X14     // nodata
	MOVOA   X14, X13
	PSUBB   X11, X13         // nodata and one
	NEGL    BX
	MOVL    BX, X12
	PSHUFL  $0, X12, X12     // all bits if the greatest byte is nodata

loop:
	MOVOU    (SI), X0
	MOVOU    16(SI), X1
	MOVOA    X0, X2
	MOVOA    X1, X3
	PAND     X15, X0
	PAND     X15, X1
	PACKUSWB X1, X0
	PSRLW    $8, X2
	PSRLW    $8, X3
	PACKUSWB X3, X2
	MOVOU    (DX), X4
	MOVOU    16(DX), X5
	MOVOA    X4, X6
	MOVOA    X5, X7
	PAND     X15, X4
	PAND     X15, X5
	PACKUSWB X5, X4
	PSRLW    $8, X6
	PSRLW    $8, X7
	PACKUSWB X7, X6
	TESTL    R8, R8
	JZ       keyed
	KEY(X0)
	KEY(X2)
	KEY(X4)
	KEY(X6)

keyed:
	ORDER(X0, X2)
	ORDER(X4, X6)
	ORDER(X0, X4)
	ORDER(X2, X6)
	ORDER(X2, X4)

	// Where the first two are alike; the second and third; the third and fourth, all data.
	MOVOA   X0, X1
	PCMPEQB X2, X1
	MOVOA   X2, X3
	PCMPEQB X4, X3
	MOVOA   X2, X5
	PCMPEQB X11, X5
	PAND    X12, X5
	PANDN   X3, X5
	MOVOA   X1, X7
	PANDN   X5, X7
	MOVOA   X4, X3
	PCMPEQB X6, X3
	MOVOA   X4, X8
	PCMPEQB X11, X8
	PAND    X12, X8
	PANDN   X3, X8
	MOVOA   X1, X9
	POR     X7, X9
	PANDN   X8, X9
	MOVOA   X7, X3
	POR     X9, X3
	PANDN   X0, X3
	PAND    X7, X2
	PAND    X9, X4
	POR     X2, X3
	POR     X4, X3
	TESTL   R8, R8
	JZ      done
	MOVOA   X3, X8
	PMAXUB  X14, X8
	PCMPEQB X3, X8
	MOVOA   X3, X9
	PCMPEQB X11, X9
	PSUBB   X8, X3
	MOVOA   X9, X8
	PANDN   X3, X8
	PAND    X14, X9
	POR     X8, X9
	MOVOA   X9, X3

done:
	MOVOU X3, (DI)
	ADDQ  $32, SI
	ADDQ  $32, DX
	ADDQ  $16, DI
	SUBQ  $16, CX
	JG    loop
	RET
