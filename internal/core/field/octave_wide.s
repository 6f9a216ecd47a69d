//go:build goexperiment.simd && amd64 && !plain

#include "textflag.h"

// The kernels of octaveWide. Go's compiler leaves half of the 32 registers unused and keeps the rest on the stack between
// steps. There are two, so that the processor, which looks some two hundred steps ahead, finds enough that does not wait:
// places finds where points lie in their cells, corners does what follows.
//
// A block of lattice holds 16 points' places in their cells by axis, then the hashes of their cells by axis.

// AXIS turns the place Z0–Z2 by a row of the matrix at R, and leaves the place in its cell in P and the hash in H.
#define AXIS(R, C, P, H) \
	VBROADCASTSS (R+12)(DX), P             \
	VFMADD231PS.BCST (R+8)(DX), Z2, P      \
	VFMADD231PS.BCST (R+4)(DX), Z1, P      \
	VFMADD231PS.BCST (R+0)(DX), Z0, P      \
	VRNDSCALEPS $1, P, H                   \
	VSUBPS H, P, P                         \
	VCVTTPS2DQ H, H                        \
	VPMULLD.BCST C(DX), H, H

// func octavePlaces(x, y, z *float32, n int, k *octaveNumbers, to *float32)
TEXT ·octavePlaces(SB), NOSPLIT, $0-48
	MOVQ x+0(FP), SI
	MOVQ y+8(FP), DI
	MOVQ z+16(FP), R8
	MOVQ n+24(FP), CX
	MOVQ k+32(FP), DX
	MOVQ to+40(FP), BX
	VBROADCASTSS 0(DX), Z29
	XORQ AX, AX

places:
	CMPQ AX, CX
	JGE  placed
	VMULPS (SI)(AX*4), Z29, Z0
	VMULPS (DI)(AX*4), Z29, Z1
	VMULPS (R8)(AX*4), Z29, Z2
	AXIS(4, 56, Z3, Z9)
	AXIS(20, 60, Z4, Z10)
	AXIS(36, 64, Z5, Z11)
	VMOVUPS Z3, (BX)
	VMOVUPS Z4, 64(BX)
	VMOVUPS Z5, 128(BX)
	VMOVDQU32 Z9, 192(BX)
	VMOVDQU32 Z10, 256(BX)
	VMOVDQU32 Z11, 320(BX)
	ADDQ $384, BX
	ADDQ $16, AX
	JMP  places

placed:
	VZEROUPPER
	RET

// Z3–Z5   the place in its cell, p       Z15–Z17 its fades
// Z6–Z8   p − 1                          Z18–Z25 corners
// Z9–Z11  hashes of the cell by axis     Z0–Z2, Z26–Z28 scratch, with Z9–Z14 when they are done
// Z12–Z14 the same of the next cell      Z29 1, Z30 the sign bit, Z31 hashM

// FADE is Perlin's quintic.
#define FADE(P, F) \
	VBROADCASTSS 76(DX), F                 \
	VFMADD231PS.BCST 72(DX), P, F          \
	VFMADD213PS.BCST 80(DX), P, F          \
	VMULPS P, P, Z26                       \
	VMULPS P, Z26, Z26                     \
	VMULPS Z26, F, F

// HASH leaves the first half of a corner's hash in R.
#define HASH(H, I, J, R) \
	VMOVDQA32 H, R                         \
	VPTERNLOGD $0x96, I, J, R              \
	VPMULLD Z31, R, R

// STIR leaves a corner's hash in R.
#define STIR(R, T) \
	VPSRLD $15, R, T                       \
	VPXORD T, R, R                         \
	VPMULLD Z31, R, R

// CORNER turns a corner's hash in R into the product of its gradient and the way X, Y, Z from it.
#define CORNER(X, Y, Z, R, T, U) \
	VPSLLD $1, R, T                        \
	VPSLLD $2, R, U                        \
	VPTERNLOGD $0x6A, X, Z30, R            \
	VPTERNLOGD $0x6A, Y, Z30, T            \
	VPTERNLOGD $0x6A, Z, Z30, U            \
	VADDPS T, R, R                         \
	VADDPS U, R, R

// LERP leaves A + (B − A) · T in B.
#define LERP(T, A, B) \
	VSUBPS A, B, B                         \
	VFMADD213PS A, T, B

// func octaveCorners(out *float32, n int, k *octaveNumbers, from *float32)
TEXT ·octaveCorners(SB), NOSPLIT, $0-32
	MOVQ out+0(FP), R9
	MOVQ n+8(FP), CX
	MOVQ k+16(FP), DX
	MOVQ from+24(FP), BX
	VBROADCASTSS 84(DX), Z29
	VPBROADCASTD 88(DX), Z30
	VPBROADCASTD 92(DX), Z31
	XORQ AX, AX

corners:
	CMPQ AX, CX
	JGE  done
	VMOVUPS (BX), Z3
	VMOVUPS 64(BX), Z4
	VMOVUPS 128(BX), Z5
	VMOVDQU32 192(BX), Z9
	VMOVDQU32 256(BX), Z10
	VMOVDQU32 320(BX), Z11
	ADDQ $384, BX
	VPADDD.BCST 56(DX), Z9, Z12
	VPADDD.BCST 60(DX), Z10, Z13
	VPADDD.BCST 64(DX), Z11, Z14
	VPXORD.BCST 68(DX), Z11, Z11
	VPXORD.BCST 68(DX), Z14, Z14
	// All corners go side by side, so that none waits for itself.
	HASH(Z9, Z10, Z11, Z18)
	HASH(Z12, Z10, Z11, Z19)
	HASH(Z9, Z13, Z11, Z20)
	HASH(Z12, Z13, Z11, Z21)
	HASH(Z9, Z10, Z14, Z22)
	HASH(Z12, Z10, Z14, Z23)
	HASH(Z9, Z13, Z14, Z24)
	HASH(Z12, Z13, Z14, Z25)
	FADE(Z3, Z15)
	STIR(Z18, Z0)
	STIR(Z19, Z1)
	STIR(Z20, Z2)
	STIR(Z21, Z9)
	STIR(Z22, Z10)
	STIR(Z23, Z11)
	STIR(Z24, Z12)
	STIR(Z25, Z13)
	FADE(Z4, Z16)
	FADE(Z5, Z17)
	VSUBPS Z29, Z3, Z6
	VSUBPS Z29, Z4, Z7
	VSUBPS Z29, Z5, Z8
	CORNER(Z3, Z4, Z5, Z18, Z0, Z1)
	CORNER(Z6, Z4, Z5, Z19, Z2, Z9)
	CORNER(Z3, Z7, Z5, Z20, Z10, Z11)
	CORNER(Z6, Z7, Z5, Z21, Z12, Z13)
	CORNER(Z3, Z4, Z8, Z22, Z14, Z28)
	CORNER(Z6, Z4, Z8, Z23, Z0, Z1)
	CORNER(Z3, Z7, Z8, Z24, Z2, Z9)
	CORNER(Z6, Z7, Z8, Z25, Z10, Z11)
	LERP(Z15, Z18, Z19)
	LERP(Z15, Z20, Z21)
	LERP(Z15, Z22, Z23)
	LERP(Z15, Z24, Z25)
	LERP(Z16, Z19, Z21)
	LERP(Z16, Z23, Z25)
	LERP(Z17, Z21, Z25)
	VMOVUPS (R9)(AX*4), Z26
	VFMADD231PS.BCST 52(DX), Z25, Z26
	VMOVUPS Z26, (R9)(AX*4)
	ADDQ $16, AX
	JMP  corners

done:
	VZEROUPPER
	RET
