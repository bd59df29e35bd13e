#include "textflag.h"

// func addUp8(p *byte, n int)
TEXT ·addUp8(SB), NOSPLIT, $0-16
	MOVQ  p+0(FP), SI
	MOVQ  n+8(FP), CX
	VPXOR X1, X1, X1 // the last number, in all places
	MOVQ  $0x0f0f0f0f0f0f0f0f, AX
	VMOVQ AX, X2
	VPUNPCKLQDQ X2, X2, X2

block8:
	VMOVDQU (SI), X0
	VPSLLDQ $1, X0, X3
	VPADDB  X3, X0, X0
	VPSLLDQ $2, X0, X3
	VPADDB  X3, X0, X0
	VPSLLDQ $4, X0, X3
	VPADDB  X3, X0, X0
	VPSLLDQ $8, X0, X3
	VPADDB  X3, X0, X0
	VPADDB  X1, X0, X0
	VMOVDQU X0, (SI)
	VPSHUFB X2, X0, X1
	ADDQ    $16, SI
	DECQ    CX
	JNZ     block8
	RET

// func addUp16(p *byte, n int)
TEXT ·addUp16(SB), NOSPLIT, $0-16
	MOVQ  p+0(FP), SI
	MOVQ  n+8(FP), CX
	VPXOR X1, X1, X1
	MOVQ  $0x0f0e0f0e0f0e0f0e, AX
	VMOVQ AX, X2
	VPUNPCKLQDQ X2, X2, X2

block16:
	VMOVDQU (SI), X0
	VPSLLDQ $2, X0, X3
	VPADDW  X3, X0, X0
	VPSLLDQ $4, X0, X3
	VPADDW  X3, X0, X0
	VPSLLDQ $8, X0, X3
	VPADDW  X3, X0, X0
	VPADDW  X1, X0, X0
	VMOVDQU X0, (SI)
	VPSHUFB X2, X0, X1
	ADDQ    $16, SI
	DECQ    CX
	JNZ     block16
	RET

// func addUp32(p *byte, n int)
TEXT ·addUp32(SB), NOSPLIT, $0-16
	MOVQ  p+0(FP), SI
	MOVQ  n+8(FP), CX
	VPXOR X1, X1, X1

block32:
	VMOVDQU (SI), X0
	VPSLLDQ $4, X0, X3
	VPADDD  X3, X0, X0
	VPSLLDQ $8, X0, X3
	VPADDD  X3, X0, X0
	VPADDD  X1, X0, X0
	VMOVDQU X0, (SI)
	VPSHUFD $0xff, X0, X1
	ADDQ    $16, SI
	DECQ    CX
	JNZ     block32
	RET
