#include "textflag.h"

DATA weights<>+0(SB)/8, $0x191a1b1c1d1e1f20
DATA weights<>+8(SB)/8, $0x1112131415161718
DATA weights<>+16(SB)/8, $0x090a0b0c0d0e0f10
DATA weights<>+24(SB)/8, $0x0102030405060708
GLOBL weights<>(SB), RODATA|NOPTR, $32

// func addBlocks(p *byte, n int) (sum, before, weighted uint32)
TEXT ·addBlocks(SB), NOSPLIT, $0-28
	MOVQ     p+0(FP), SI
	MOVQ     n+8(FP), CX
	VMOVDQU  weights<>(SB), Y7
	VPXOR    Y0, Y0, Y0 // sums of bytes, in lanes of 64 bits
	VPXOR    Y1, Y1, Y1 // of those before each block
	VPXOR    Y2, Y2, Y2 // weighted, in lanes of 32 bits
	VPXOR    Y6, Y6, Y6
	MOVL     $0x00010001, AX
	MOVQ     AX, X8
	VPBROADCASTD X8, Y8

block:
	VMOVDQU    (SI), Y3
	VPADDD     Y0, Y1, Y1
	VPSADBW    Y6, Y3, Y4
	VPADDD     Y4, Y0, Y0
	VPMADDUBSW Y7, Y3, Y5
	VPMADDWD   Y8, Y5, Y5
	VPADDD     Y5, Y2, Y2
	ADDQ       $32, SI
	DECQ       CX
	JNZ        block

	VEXTRACTI128 $1, Y0, X3
	VPADDD       X3, X0, X0
	VPSHUFD      $0xee, X0, X3
	VPADDD       X3, X0, X0
	VMOVD        X0, AX
	MOVL         AX, sum+16(FP)
	VEXTRACTI128 $1, Y1, X3
	VPADDD       X3, X1, X1
	VPSHUFD      $0xee, X1, X3
	VPADDD       X3, X1, X1
	VMOVD        X1, AX
	MOVL         AX, before+20(FP)
	VEXTRACTI128 $1, Y2, X3
	VPADDD       X3, X2, X2
	VPSHUFD      $0xee, X2, X3
	VPADDD       X3, X2, X2
	VPSHUFD      $0x55, X2, X3
	VPADDD       X3, X2, X2
	VMOVD        X2, AX
	MOVL         AX, weighted+24(FP)
	VZEROUPPER
	RET
