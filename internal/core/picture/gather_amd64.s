//go:build goexperiment.simd && amd64 && !plain

#include "textflag.h"

// func gather(to *uint32, from unsafe.Pointer, at *int32, n int)
TEXT ·gather(SB), NOSPLIT, $0-32
	MOVQ to+0(FP), DI
	MOVQ from+8(FP), SI
	MOVQ at+16(FP), BX
	MOVQ n+24(FP), CX
	XORQ AX, AX

more:
	CMPQ AX, CX
	JGE  done
	VMOVDQU (BX)(AX*4), Y1
	VPCMPEQD Y2, Y2, Y2
	VPXOR Y0, Y0, Y0 // so that it does not wait for the last eight
	VPGATHERDD Y2, (SI)(Y1*1), Y0
	VMOVDQU Y0, (DI)(AX*4)
	ADDQ $8, AX
	JMP  more

done:
	VZEROUPPER
	RET
