//go:build goexperiment.simd && amd64

#include "textflag.h"

// The kernel of octaveWide. Go's compiler leaves half of the 32 registers unused and keeps the rest on the stack between
// steps, which takes twice as long.
//
// Z3–Z5   p, the place in its cell       Z15–Z17 its fades
// Z6–Z8   p − 1                          Z18–Z25 corners
// Z9–Z11  hashes of the cell by axis     Z26–Z28 scratch
// Z12–Z14 the same of the next cell      Z29 1, Z30 the sign bit, Z31 hashM

// AXIS turns the place X0–X2 by a row of the matrix at R, and leaves the place in its cell in P, that less one in Q, the
// hash in H and that of the next cell in G.
#define AXIS(R, C, P, Q, H, G) \
	VBROADCASTSS (R+12)(DX), P             \
	VFMADD231PS.BCST (R+8)(DX), Z2, P      \
	VFMADD231PS.BCST (R+4)(DX), Z1, P      \
	VFMADD231PS.BCST (R+0)(DX), Z0, P      \
	VRNDSCALEPS $1, P, Q                   \
	VCVTTPS2DQ Q, H                        \
	VSUBPS Q, P, P                         \
	VSUBPS Z29, P, Q                       \
	VPMULLD.BCST C(DX), H, H               \
	VPADDD.BCST C(DX), H, G

// FADE is Perlin's quintic.
#define FADE(P, F) \
	VBROADCASTSS 76(DX), F                 \
	VFMADD231PS.BCST 72(DX), P, F          \
	VFMADD213PS.BCST 80(DX), P, F          \
	VMULPS P, P, Z26                       \
	VMULPS P, Z26, Z26                     \
	VMULPS Z26, F, F

// CORNER leaves the product of a corner's gradient and the way X, Y, Z from it in R.
#define CORNER(H, I, J, X, Y, Z, R) \
	VMOVDQA32 H, R                         \
	VPTERNLOGD $0x96, I, J, R              \
	VPMULLD Z31, R, R                      \
	VPSRLD $15, R, Z26                     \
	VPXORD Z26, R, R                       \
	VPMULLD Z31, R, R                      \
	VPSLLD $1, R, Z26                      \
	VPSLLD $2, R, Z27                      \
	VPTERNLOGD $0x6A, X, Z30, R            \
	VPTERNLOGD $0x6A, Y, Z30, Z26          \
	VPTERNLOGD $0x6A, Z, Z30, Z27          \
	VADDPS Z26, R, R                       \
	VADDPS Z27, R, R

// LERP leaves A + (B − A) · T in B.
#define LERP(T, A, B) \
	VSUBPS A, B, B                         \
	VFMADD213PS A, T, B

// func octaveKernel(x, y, z, out *float32, n int, k *octaveNumbers)
TEXT ·octaveKernel(SB), NOSPLIT, $0-48
	MOVQ x+0(FP), SI
	MOVQ y+8(FP), DI
	MOVQ z+16(FP), R8
	MOVQ out+24(FP), R9
	MOVQ n+32(FP), CX
	MOVQ k+40(FP), DX
	VBROADCASTSS 84(DX), Z29
	VPBROADCASTD 88(DX), Z30
	VPBROADCASTD 92(DX), Z31
	XORQ AX, AX

loop:
	CMPQ AX, CX
	JGE  done
	VMOVUPS (SI)(AX*4), Z0
	VMOVUPS (DI)(AX*4), Z1
	VMOVUPS (R8)(AX*4), Z2
	VMULPS.BCST 0(DX), Z0, Z0
	VMULPS.BCST 0(DX), Z1, Z1
	VMULPS.BCST 0(DX), Z2, Z2
	AXIS(4, 56, Z3, Z6, Z9, Z12)
	AXIS(20, 60, Z4, Z7, Z10, Z13)
	AXIS(36, 64, Z5, Z8, Z11, Z14)
	VPXORD.BCST 68(DX), Z11, Z11
	VPXORD.BCST 68(DX), Z14, Z14
	FADE(Z3, Z15)
	FADE(Z4, Z16)
	FADE(Z5, Z17)
	CORNER(Z9, Z10, Z11, Z3, Z4, Z5, Z18)
	CORNER(Z12, Z10, Z11, Z6, Z4, Z5, Z19)
	LERP(Z15, Z18, Z19)
	CORNER(Z9, Z13, Z11, Z3, Z7, Z5, Z20)
	CORNER(Z12, Z13, Z11, Z6, Z7, Z5, Z21)
	LERP(Z15, Z20, Z21)
	LERP(Z16, Z19, Z21)
	CORNER(Z9, Z10, Z14, Z3, Z4, Z8, Z22)
	CORNER(Z12, Z10, Z14, Z6, Z4, Z8, Z23)
	LERP(Z15, Z22, Z23)
	CORNER(Z9, Z13, Z14, Z3, Z7, Z8, Z24)
	CORNER(Z12, Z13, Z14, Z6, Z7, Z8, Z25)
	LERP(Z15, Z24, Z25)
	LERP(Z16, Z23, Z25)
	LERP(Z17, Z21, Z25)
	VMOVUPS (R9)(AX*4), Z26
	VFMADD231PS.BCST 52(DX), Z25, Z26
	VMOVUPS Z26, (R9)(AX*4)
	ADDQ $16, AX
	JMP  loop

done:
	VZEROUPPER
	RET
