; What runs before main on a simulated MSP430: a stack, and variables set to zero.
	.section .text.start,"ax",@progbits
	.globl _start
_start:
	mov #__stack, r1
	mov #__bss, r12
	jmp 2f
1:	mov #0, 0(r12)
	add #2, r12
2:	cmp #__ebss, r12
	jne 1b
	call #main
3:	jmp 3b

; Of 64-bit helpers the first operand arrives in r8 to r11, the second in r12 to r15; C takes the
; first there and the second on the stack.
	.macro wide name
	.globl \name
\name:
	push r15
	push r14
	push r13
	push r12
	mov r8, r12
	mov r9, r13
	mov r10, r14
	mov r11, r15
	call #\name\()_in_c
	add #8, r1
	ret
	.endm
	wide __mspabi_mpyll
	wide __mspabi_divlli
	wide __mspabi_divull
	wide __mspabi_remlli
	wide __mspabi_remull

	.section .vector,"a",@progbits
	.short _start
