#include "textflag.h"

// The columns of a vector less 16; of each such e the number e(e+1)/2; and 32 bytes of ones, then 32 of zeros.
DATA ·columns<>+0(SB)/8, $0xf7f6f5f4f3f2f1f0
DATA ·columns<>+8(SB)/8, $0xfffefdfcfbfaf9f8
DATA ·columns<>+16(SB)/8, $0x0706050403020100
DATA ·columns<>+24(SB)/8, $0x0f0e0d0c0b0a0908
DATA ·columns<>+32(SB)/8, $0x242d37424e5b6978
DATA ·columns<>+40(SB)/8, $0x000103060a0f151c
DATA ·columns<>+48(SB)/8, $0x1c150f0a06030100
DATA ·columns<>+56(SB)/8, $0x78695b4e42372d24
DATA ·columns<>+64(SB)/8, $-1
DATA ·columns<>+72(SB)/8, $-1
DATA ·columns<>+80(SB)/8, $-1
DATA ·columns<>+88(SB)/8, $-1
GLOBL ·columns<>(SB), RODATA|NOPTR, $128

// By column of a vector: how many cells of the block have the value (N), the sum of that over this vector and those before it (P), and the sum of these (Q).
#define COLUMN(value, N, P, Q) \
	VPCMPEQB value, Y12, Y13 \
	VPSUBB   Y13, N, N       \
	VPADDB   N, P, P         \
	VPADDB   P, Q, Q

#define LASTCOLUMN(value, N, P, Q) \
	VPCMPEQB value, Y12, Y13 \
	VPAND    Y14, Y13, Y13   \
	VPSUBB   Y13, N, N       \
	VPADDB   N, P, P         \
	VPADDB   P, Q, Q

// The sums over all columns, weighted where blockSums says so, of the value with this number of the four, if there are cells. Y15 is 0, Y14 is ones in words.
#define SUM(N, P, Q, XN, number, absent) \
	VPTEST       N, N                         \
	JZ           absent                       \
	VPSADBW      Y15, N, Y13                  \
	VPSADBW      Y15, P, Y12                  \
	VPSLLQ       $32, Y12, Y12                \
	VPOR         Y12, Y13, Y13                \
	VPMADDUBSW   (R10), N, Y12                \
	VPMADDWD     Y14, Y12, Y12                \
	VPMADDUBSW   (R10), P, P                  \
	VPMADDWD     Y14, P, P                    \
	VPMADDUBSW   32(R10), N, N                \
	VPMADDWD     Y14, N, N                    \
	VPSADBW      Y15, Q, Q                    \
	VPHADDD      P, Y12, Y12                  \
	VPHADDD      Q, N, N                      \
	VPHADDD      N, Y12, Y12                  \
	VEXTRACTI128 $1, Y12, XN                  \
	VPADDD       XN, X12, X12                 \
	VMOVDQU      X12, (32*number)(DI)         \
	VEXTRACTI128 $1, Y13, XN                  \
	VPADDD       XN, X13, X13                 \
	VPSHUFD      $0x4e, X13, X12              \
	VPADDD       X12, X13, X13                \
	VMOVQ        X13, BX                      \
	MOVQ         BX, (32*number+16)(DI)       \
	ADDL         BX, R13                      \
	LEAL         number(R8), R9               \
	BTSL         R9, R12

// func sumColumns(wide *uint8, groups int, cells *uint8, vectors, last int, sums *blockSums) (present uint32, found int32)
TEXT ·sumColumns(SB), NOSPLIT, $0-56
	MOVQ wide+0(FP), SI
	MOVQ groups+8(FP), DX
	MOVQ sums+40(FP), DI
	LEAQ ·columns<>(SB), R10
	MOVQ last+32(FP), R11
	NEGQ R11
	LEAQ 96(R10)(R11*1), R11
	XORL R8, R8
	XORL R12, R12
	XORL R13, R13

group:
	MOVQ  cells+16(FP), AX
	MOVQ  vectors+24(FP), CX
	VPXOR Y0, Y0, Y0
	VPXOR Y1, Y1, Y1
	VPXOR Y2, Y2, Y2
	VPXOR Y3, Y3, Y3
	VPXOR Y4, Y4, Y4
	VPXOR Y5, Y5, Y5
	VPXOR Y6, Y6, Y6
	VPXOR Y7, Y7, Y7
	VPXOR Y8, Y8, Y8
	VPXOR Y9, Y9, Y9
	VPXOR Y10, Y10, Y10
	VPXOR Y11, Y11, Y11
	DECQ  CX
	JZ    last

vector:
	VMOVDQU (AX), Y12
	COLUMN(0(SI), Y0, Y1, Y2)
	COLUMN(32(SI), Y3, Y4, Y5)
	COLUMN(64(SI), Y6, Y7, Y8)
	COLUMN(96(SI), Y9, Y10, Y11)
	ADDQ    $32, AX
	DECQ    CX
	JNZ     vector

last:
	VMOVDQU  (AX), Y12
	VMOVDQU  (R11), Y14
	LASTCOLUMN(0(SI), Y0, Y1, Y2)
	LASTCOLUMN(32(SI), Y3, Y4, Y5)
	LASTCOLUMN(64(SI), Y6, Y7, Y8)
	LASTCOLUMN(96(SI), Y9, Y10, Y11)
	VPXOR    Y15, Y15, Y15
	VPCMPEQW Y14, Y14, Y14
	VPSRLW   $15, Y14, Y14
	SUM(Y0, Y1, Y2, X0, 0, second)

second:
	SUM(Y3, Y4, Y5, X3, 1, third)

third:
	SUM(Y6, Y7, Y8, X6, 2, fourth)

fourth:
	SUM(Y9, Y10, Y11, X9, 3, next)

next:
	ADDQ $128, SI
	ADDQ $128, DI
	ADDL $4, R8
	DECQ DX
	JNZ  group
	VZEROUPPER
	MOVL R12, present+48(FP)
	MOVL R13, found+52(FP)
	RET
