//go:build goexperiment.simd && amd64 && !plain

#include "textflag.h"

// The kernel of meanWide, for eight points at once. Go's compiler uses half of the 32 registers and keeps the rest on the stack.

// Y16–Y18 the place        Y22 −1/r²     Y25 2, Y26 1.2         Y28 the sum of weights
// Y19–Y21 its normal       Y23 sheet     Y27 0                  Y29 the sum of values by them
//                          Y24 1         Y30 all but the sign

// CLAMP leaves V within 0 and 1.
#define CLAMP(V) \
	VMAXPS Y27, V, V \
	VMINPS Y24, V, V

// func meanBunches(k *meanNumbers, of *bunch, which *int32, n int, values *float32, out *[2 * lanes]float32)
TEXT ·meanBunches(SB), NOSPLIT, $0-48
	MOVQ k+0(FP), DX
	MOVQ of+8(FP), SI
	MOVQ which+16(FP), DI
	MOVQ n+24(FP), CX
	MOVQ values+32(FP), R8
	MOVQ out+40(FP), R9
	VBROADCASTSS 0(DX), Y16
	VBROADCASTSS 4(DX), Y17
	VBROADCASTSS 8(DX), Y18
	VBROADCASTSS 12(DX), Y19
	VBROADCASTSS 16(DX), Y20
	VBROADCASTSS 20(DX), Y21
	VBROADCASTSS 24(DX), Y22
	VBROADCASTSS 28(DX), Y23
	VBROADCASTSS 32(DX), Y24
	VBROADCASTSS 36(DX), Y25
	VBROADCASTSS 40(DX), Y26
	VPBROADCASTD 44(DX), Y30
	VPXORD Y27, Y27, Y27
	VPXORD Y28, Y28, Y28
	VPXORD Y29, Y29, Y29
	XORQ AX, AX

next:
	CMPQ AX, CX
	JGE  done
	MOVLQSX (DI)(AX*4), R10
	IMUL3Q $224, R10, R11
	ADDQ SI, R11
	SHLQ $5, R10

	// How near: d² in Y3.
	VMOVUPS (R11), Y0
	VMOVUPS 32(R11), Y1
	VMOVUPS 64(R11), Y2
	VSUBPS Y16, Y0, Y0
	VSUBPS Y17, Y1, Y1
	VSUBPS Y18, Y2, Y2
	VMULPS Y2, Y2, Y3
	VFMADD231PS Y1, Y1, Y3
	VFMADD231PS Y0, Y0, Y3
	VFMADD213PS Y24, Y22, Y3
	VMAXPS Y27, Y3, Y3
	VMULPS Y3, Y3, Y3

	// How it faces, in Y7.
	VMOVUPS 96(R11), Y4
	VMOVUPS 128(R11), Y5
	VMOVUPS 160(R11), Y6
	VMULPS Y21, Y6, Y7
	VFMADD231PS Y20, Y5, Y7
	VFMADD231PS Y19, Y4, Y7
	VFMADD213PS Y26, Y25, Y7
	CLAMP(Y7)

	// How far off the surface, in Y8.
	VADDPS Y19, Y4, Y4
	VADDPS Y20, Y5, Y5
	VADDPS Y21, Y6, Y6
	VMULPS Y2, Y6, Y8
	VFMADD231PS Y1, Y5, Y8
	VFMADD231PS Y0, Y4, Y8
	VPANDD Y30, Y8, Y8
	VFNMADD213PS Y25, Y23, Y8
	CLAMP(Y8)

	VMULPS Y7, Y3, Y3
	VMULPS 192(R11), Y8, Y8
	VMULPS Y8, Y3, Y3
	VADDPS Y3, Y28, Y28
	VFMADD231PS (R8)(R10*1), Y3, Y29
	INCQ AX
	JMP next

done:
	VMOVUPS Y28, (R9)
	VMOVUPS Y29, 32(R9)
	VZEROUPPER
	RET
