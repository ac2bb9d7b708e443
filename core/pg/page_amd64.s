#include "textflag.h"

// func mixWide(sums *lanes, rows *byte, count int)
//
// For each word of a row: sum ^= word; sum = sum*checksumPrime ^ sum>>17.
TEXT ·mixWide(SB), NOSPLIT, $0-24
	MOVQ sums+0(FP), DI
	MOVQ rows+8(FP), SI
	MOVQ count+16(FP), CX
	MOVL $16777619, AX
	VMOVD AX, X8
	VPBROADCASTD X8, Y8
	VMOVDQU (DI), Y0
	VMOVDQU 32(DI), Y1
	VMOVDQU 64(DI), Y2
	VMOVDQU 96(DI), Y3

row:
	VPXOR (SI), Y0, Y0
	VPXOR 32(SI), Y1, Y1
	VPXOR 64(SI), Y2, Y2
	VPXOR 96(SI), Y3, Y3
	VPSRLD $17, Y0, Y4
	VPSRLD $17, Y1, Y5
	VPSRLD $17, Y2, Y6
	VPSRLD $17, Y3, Y7
	VPMULLD Y8, Y0, Y0
	VPMULLD Y8, Y1, Y1
	VPMULLD Y8, Y2, Y2
	VPMULLD Y8, Y3, Y3
	VPXOR Y4, Y0, Y0
	VPXOR Y5, Y1, Y1
	VPXOR Y6, Y2, Y2
	VPXOR Y7, Y3, Y3
	ADDQ $128, SI
	DECQ CX
	JNZ row

	VMOVDQU Y0, (DI)
	VMOVDQU Y1, 32(DI)
	VMOVDQU Y2, 64(DI)
	VMOVDQU Y3, 96(DI)
	VZEROUPPER
	RET
