#include "textflag.h"

// SHA-256 (FIPS 180-4, section 6.2) of sixteen messages at once: each of the
// sixteen 32-bit lanes of a Z register belongs to one message.
//
//	Z0-Z15   the message schedule W[t%16]
//	Z16-Z23  the working variables a-h
//	Z24-Z27  scratch
//	AX state, BX pointers, CX blocks left, DX byte offset in the messages,
//	SI tables, R8 round constants of the next rounds, R9 pointer of one message

// LOAD reads one block of message i.
#define LOAD(i, z) \
	MOVQ (i*8)(BX), R9            \
	VMOVDQU32 (R9)(DX*1), z

// PAIRS and QUADS transpose 4x4 words inside the 128-bit parts of four
// registers; PARTS transposes the parts of four.
#define PAIRS(a, b, lo, hi) \
	VPUNPCKLDQ b, a, lo           \
	VPUNPCKHDQ b, a, hi

#define QUADS(a, b, lo, hi) \
	VPUNPCKLQDQ b, a, lo          \
	VPUNPCKHQDQ b, a, hi

#define PARTS(a, b, lo, hi) \
	VSHUFI32X4 $0x88, b, a, lo    \
	VSHUFI32X4 $0xDD, b, a, hi

// ROUND is one round with the round constant at k(R8). 0xCA is Ch, 0xE8 is Maj
// and 0x96 is exclusive or, as truth tables.
#define ROUND(a, b, c, d, e, f, g, h, w, k) \
	VPADDD.BCST (k*4)(R8), w, Z24 \
	VPADDD Z24, h, h              \
	VPRORD $6, e, Z25             \
	VPRORD $11, e, Z26            \
	VPRORD $25, e, Z27            \
	VPTERNLOGD $0x96, Z27, Z26, Z25 \
	VMOVDQA32 e, Z24              \
	VPTERNLOGD $0xCA, g, f, Z24   \
	VPADDD Z25, h, h              \
	VPADDD Z24, h, h              \
	VPADDD h, d, d                \
	VPRORD $2, a, Z25             \
	VPRORD $13, a, Z26            \
	VPRORD $22, a, Z27            \
	VPTERNLOGD $0x96, Z27, Z26, Z25 \
	VMOVDQA32 a, Z24              \
	VPTERNLOGD $0xE8, c, b, Z24   \
	VPADDD Z25, h, h              \
	VPADDD Z24, h, h

// NEXT makes W[t+16] in place of W[t] from W[t+1], W[t+9] and W[t+14].
#define NEXT(w0, w1, w9, w14) \
	VPRORD $7, w1, Z25            \
	VPRORD $18, w1, Z26           \
	VPSRLD $3, w1, Z27            \
	VPTERNLOGD $0x96, Z27, Z26, Z25 \
	VPADDD w9, w0, w0             \
	VPRORD $17, w14, Z24          \
	VPRORD $19, w14, Z26          \
	VPSRLD $10, w14, Z27          \
	VPTERNLOGD $0x96, Z27, Z26, Z24 \
	VPADDD Z25, w0, w0            \
	VPADDD Z24, w0, w0

// func blocks16(state *[8][16]uint32, messages *[16]*byte, n int, t *tables)
TEXT ·blocks16(SB), NOSPLIT, $0-32
	MOVQ state+0(FP), AX
	MOVQ messages+8(FP), BX
	MOVQ n+16(FP), CX
	MOVQ t+24(FP), SI
	XORQ DX, DX

block:
	LOAD(0, Z0)
	LOAD(1, Z1)
	LOAD(2, Z2)
	LOAD(3, Z3)
	LOAD(4, Z4)
	LOAD(5, Z5)
	LOAD(6, Z6)
	LOAD(7, Z7)
	LOAD(8, Z8)
	LOAD(9, Z9)
	LOAD(10, Z10)
	LOAD(11, Z11)
	LOAD(12, Z12)
	LOAD(13, Z13)
	LOAD(14, Z14)
	LOAD(15, Z15)

	PAIRS(Z0, Z1, Z16, Z17)
	PAIRS(Z2, Z3, Z18, Z19)
	PAIRS(Z4, Z5, Z20, Z21)
	PAIRS(Z6, Z7, Z22, Z23)
	PAIRS(Z8, Z9, Z24, Z25)
	PAIRS(Z10, Z11, Z26, Z27)
	PAIRS(Z12, Z13, Z28, Z29)
	PAIRS(Z14, Z15, Z30, Z31)
	QUADS(Z16, Z18, Z0, Z1)
	QUADS(Z17, Z19, Z2, Z3)
	QUADS(Z20, Z22, Z4, Z5)
	QUADS(Z21, Z23, Z6, Z7)
	QUADS(Z24, Z26, Z8, Z9)
	QUADS(Z25, Z27, Z10, Z11)
	QUADS(Z28, Z30, Z12, Z13)
	QUADS(Z29, Z31, Z14, Z15)
	PARTS(Z0, Z4, Z16, Z17)
	PARTS(Z8, Z12, Z18, Z19)
	PARTS(Z1, Z5, Z20, Z21)
	PARTS(Z9, Z13, Z22, Z23)
	PARTS(Z2, Z6, Z24, Z25)
	PARTS(Z10, Z14, Z26, Z27)
	PARTS(Z3, Z7, Z28, Z29)
	PARTS(Z11, Z15, Z30, Z31)
	PARTS(Z16, Z18, Z0, Z8)
	PARTS(Z17, Z19, Z4, Z12)
	PARTS(Z20, Z22, Z1, Z9)
	PARTS(Z21, Z23, Z5, Z13)
	PARTS(Z24, Z26, Z2, Z10)
	PARTS(Z25, Z27, Z6, Z14)
	PARTS(Z28, Z30, Z3, Z11)
	PARTS(Z29, Z31, Z7, Z15)

	VMOVDQU32 256(SI), Z24
	VPSHUFB Z24, Z0, Z0
	VPSHUFB Z24, Z1, Z1
	VPSHUFB Z24, Z2, Z2
	VPSHUFB Z24, Z3, Z3
	VPSHUFB Z24, Z4, Z4
	VPSHUFB Z24, Z5, Z5
	VPSHUFB Z24, Z6, Z6
	VPSHUFB Z24, Z7, Z7
	VPSHUFB Z24, Z8, Z8
	VPSHUFB Z24, Z9, Z9
	VPSHUFB Z24, Z10, Z10
	VPSHUFB Z24, Z11, Z11
	VPSHUFB Z24, Z12, Z12
	VPSHUFB Z24, Z13, Z13
	VPSHUFB Z24, Z14, Z14
	VPSHUFB Z24, Z15, Z15

	VMOVDQU32 (0*64)(AX), Z16
	VMOVDQU32 (1*64)(AX), Z17
	VMOVDQU32 (2*64)(AX), Z18
	VMOVDQU32 (3*64)(AX), Z19
	VMOVDQU32 (4*64)(AX), Z20
	VMOVDQU32 (5*64)(AX), Z21
	VMOVDQU32 (6*64)(AX), Z22
	VMOVDQU32 (7*64)(AX), Z23

	MOVQ SI, R8
	MOVQ $3, R9

rounds:
	ROUND(Z16, Z17, Z18, Z19, Z20, Z21, Z22, Z23, Z0, 0)
	NEXT(Z0, Z1, Z9, Z14)
	ROUND(Z23, Z16, Z17, Z18, Z19, Z20, Z21, Z22, Z1, 1)
	NEXT(Z1, Z2, Z10, Z15)
	ROUND(Z22, Z23, Z16, Z17, Z18, Z19, Z20, Z21, Z2, 2)
	NEXT(Z2, Z3, Z11, Z0)
	ROUND(Z21, Z22, Z23, Z16, Z17, Z18, Z19, Z20, Z3, 3)
	NEXT(Z3, Z4, Z12, Z1)
	ROUND(Z20, Z21, Z22, Z23, Z16, Z17, Z18, Z19, Z4, 4)
	NEXT(Z4, Z5, Z13, Z2)
	ROUND(Z19, Z20, Z21, Z22, Z23, Z16, Z17, Z18, Z5, 5)
	NEXT(Z5, Z6, Z14, Z3)
	ROUND(Z18, Z19, Z20, Z21, Z22, Z23, Z16, Z17, Z6, 6)
	NEXT(Z6, Z7, Z15, Z4)
	ROUND(Z17, Z18, Z19, Z20, Z21, Z22, Z23, Z16, Z7, 7)
	NEXT(Z7, Z8, Z0, Z5)
	ROUND(Z16, Z17, Z18, Z19, Z20, Z21, Z22, Z23, Z8, 8)
	NEXT(Z8, Z9, Z1, Z6)
	ROUND(Z23, Z16, Z17, Z18, Z19, Z20, Z21, Z22, Z9, 9)
	NEXT(Z9, Z10, Z2, Z7)
	ROUND(Z22, Z23, Z16, Z17, Z18, Z19, Z20, Z21, Z10, 10)
	NEXT(Z10, Z11, Z3, Z8)
	ROUND(Z21, Z22, Z23, Z16, Z17, Z18, Z19, Z20, Z11, 11)
	NEXT(Z11, Z12, Z4, Z9)
	ROUND(Z20, Z21, Z22, Z23, Z16, Z17, Z18, Z19, Z12, 12)
	NEXT(Z12, Z13, Z5, Z10)
	ROUND(Z19, Z20, Z21, Z22, Z23, Z16, Z17, Z18, Z13, 13)
	NEXT(Z13, Z14, Z6, Z11)
	ROUND(Z18, Z19, Z20, Z21, Z22, Z23, Z16, Z17, Z14, 14)
	NEXT(Z14, Z15, Z7, Z12)
	ROUND(Z17, Z18, Z19, Z20, Z21, Z22, Z23, Z16, Z15, 15)
	NEXT(Z15, Z0, Z8, Z13)
	ADDQ $64, R8
	DECQ R9
	JNZ  rounds

	ROUND(Z16, Z17, Z18, Z19, Z20, Z21, Z22, Z23, Z0, 0)
	ROUND(Z23, Z16, Z17, Z18, Z19, Z20, Z21, Z22, Z1, 1)
	ROUND(Z22, Z23, Z16, Z17, Z18, Z19, Z20, Z21, Z2, 2)
	ROUND(Z21, Z22, Z23, Z16, Z17, Z18, Z19, Z20, Z3, 3)
	ROUND(Z20, Z21, Z22, Z23, Z16, Z17, Z18, Z19, Z4, 4)
	ROUND(Z19, Z20, Z21, Z22, Z23, Z16, Z17, Z18, Z5, 5)
	ROUND(Z18, Z19, Z20, Z21, Z22, Z23, Z16, Z17, Z6, 6)
	ROUND(Z17, Z18, Z19, Z20, Z21, Z22, Z23, Z16, Z7, 7)
	ROUND(Z16, Z17, Z18, Z19, Z20, Z21, Z22, Z23, Z8, 8)
	ROUND(Z23, Z16, Z17, Z18, Z19, Z20, Z21, Z22, Z9, 9)
	ROUND(Z22, Z23, Z16, Z17, Z18, Z19, Z20, Z21, Z10, 10)
	ROUND(Z21, Z22, Z23, Z16, Z17, Z18, Z19, Z20, Z11, 11)
	ROUND(Z20, Z21, Z22, Z23, Z16, Z17, Z18, Z19, Z12, 12)
	ROUND(Z19, Z20, Z21, Z22, Z23, Z16, Z17, Z18, Z13, 13)
	ROUND(Z18, Z19, Z20, Z21, Z22, Z23, Z16, Z17, Z14, 14)
	ROUND(Z17, Z18, Z19, Z20, Z21, Z22, Z23, Z16, Z15, 15)

	VPADDD (0*64)(AX), Z16, Z16
	VPADDD (1*64)(AX), Z17, Z17
	VPADDD (2*64)(AX), Z18, Z18
	VPADDD (3*64)(AX), Z19, Z19
	VPADDD (4*64)(AX), Z20, Z20
	VPADDD (5*64)(AX), Z21, Z21
	VPADDD (6*64)(AX), Z22, Z22
	VPADDD (7*64)(AX), Z23, Z23
	VMOVDQU32 Z16, (0*64)(AX)
	VMOVDQU32 Z17, (1*64)(AX)
	VMOVDQU32 Z18, (2*64)(AX)
	VMOVDQU32 Z19, (3*64)(AX)
	VMOVDQU32 Z20, (4*64)(AX)
	VMOVDQU32 Z21, (5*64)(AX)
	VMOVDQU32 Z22, (6*64)(AX)
	VMOVDQU32 Z23, (7*64)(AX)

	ADDQ $64, DX
	DECQ CX
	JNZ  block
	VZEROUPPER
	RET
