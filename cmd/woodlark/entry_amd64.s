#include "textflag.h"

// func entry()
// The program begins here where it is linked with -E main.entry. Whether standard output is
// open can be told at this point only: Go's runtime opens /dev/null in the place of what is
// closed, before any Go code runs.
TEXT ·entry(SB),NOSPLIT|NOFRAME,$0
	MOVQ	$72, AX	// fcntl
	MOVQ	$1, DI
	MOVQ	$1, SI	// F_GETFD
	MOVQ	$0, DX
	SYSCALL
	MOVQ	AX, ·outputState(SB)
	JMP	_rt0_amd64_linux(SB)
