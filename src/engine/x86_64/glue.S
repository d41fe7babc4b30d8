/* The doors between the engine's C code and translated code. All guest
   registers live in the processor inside the cache and in the context outside
   it. Vector registers stay where they are: engine C does not touch them. */
#include "context.h"

/* Registers that C changes, besides RAX, RCX and RDX. */
    .macro save_more
    mov %rsi, %fs:CTX_REGISTERS+48
    mov %rdi, %fs:CTX_REGISTERS+56
    mov %r8, %fs:CTX_REGISTERS+64
    mov %r9, %fs:CTX_REGISTERS+72
    mov %r10, %fs:CTX_REGISTERS+80
    mov %r11, %fs:CTX_REGISTERS+88
    .endm

    .macro restore_more
    mov %fs:CTX_REGISTERS+48, %rsi
    mov %fs:CTX_REGISTERS+56, %rdi
    mov %fs:CTX_REGISTERS+64, %r8
    mov %fs:CTX_REGISTERS+72, %r9
    mov %fs:CTX_REGISTERS+80, %r10
    mov %fs:CTX_REGISTERS+88, %r11
    .endm

    .text
    .macro save_registers
    mov %rax, %fs:CTX_REGISTERS+0
    mov %rcx, %fs:CTX_REGISTERS+8
    mov %rdx, %fs:CTX_REGISTERS+16
    mov %rbx, %fs:CTX_REGISTERS+24
    mov %rsp, %fs:CTX_REGISTERS+32
    mov %rbp, %fs:CTX_REGISTERS+40
    save_more
    mov %r12, %fs:CTX_REGISTERS+96
    mov %r13, %fs:CTX_REGISTERS+104
    mov %r14, %fs:CTX_REGISTERS+112
    mov %r15, %fs:CTX_REGISTERS+120
    mov %fs:CTX_ENGINE_SP, %rsp
    .endm

    /* RAX is 0 when A forbids none of the DL (at most 56) bytes at RCX. */
    .macro load_forbidden
    mov %rcx, %fs:CTX_SCRATCH
    mov %rcx, %rax
    shr $3, %rax
    add %fs:CTX_A_BASE, %rax
    mov (%rax), %rax
    and $7, %ecx
    shr %cl, %rax
    mov %edx, %ecx
    neg %ecx
    shl %cl, %rax
    mov %fs:CTX_SCRATCH, %rcx
    .endm

    /* A write to the red zone at RCX is marked for the next return: on at 9f when it
       lies below, else at `done`. RAX is free. */
    .macro mark_red_zone done
    lea -128(%rsp), %rax
    cmp %rax, %rcx
    jb 9f
    cmp %fs:CTX_MARK, %rcx
    jae \done
    mov %rcx, %rax
    and $-8, %rax
    mov %rax, %fs:CTX_MARK
    jmp \done
    .endm

    .globl glue_exit
    .type glue_exit, @function
glue_exit:
    save_registers
    pushfq
    popq %fs:CTX_FLAGS
    btl $18, %fs:CTX_FLAGS /* AC: engine code reads unaligned words */
    jnc 1f
    pushq $0x202
    popfq
1:  cld
    mov %fs:CTX_SELF, %rdi
    call dispatch
    .globl glue_enter
glue_enter:
    cmpl $0, %fs:CTX_PENDING
    je glue_restore
    .globl glue_pending
glue_pending:
    mov %fs:CTX_ENGINE_SP, %rsp
    cld
    mov %fs:CTX_SELF, %rdi
    call dispatch_pending
    test %al, %al
    jz glue_enter
    .globl glue_restore
glue_restore:
    pushq %fs:CTX_FLAGS
    popfq
glue_restore_registers:
    mov %fs:CTX_REGISTERS+0, %rax
    mov %fs:CTX_REGISTERS+8, %rcx
    mov %fs:CTX_REGISTERS+16, %rdx
    mov %fs:CTX_REGISTERS+24, %rbx
    mov %fs:CTX_REGISTERS+40, %rbp
    restore_more
    mov %fs:CTX_REGISTERS+96, %r12
    mov %fs:CTX_REGISTERS+104, %r13
    mov %fs:CTX_REGISTERS+112, %r14
    mov %fs:CTX_REGISTERS+120, %r15
    mov %fs:CTX_REGISTERS+32, %rsp
    jmp *%fs:CTX_TARGET
    .globl glue_restore_end
glue_restore_end:

/* A call of a replaced function: flags are dead on both sides of it. */
    .globl glue_exit_call
    .type glue_exit_call, @function
glue_exit_call:
    save_registers
    movq $0x202, %fs:CTX_FLAGS
    cld
    mov %fs:CTX_SELF, %rdi
    call dispatch_call
    cmpl $0, %fs:CTX_PENDING
    jne glue_pending
    jmp glue_restore_registers

/* The same where a quick way is to be tried first: its arguments are where C takes
   them. Where it comes back with the result, only registers are left that mean nothing
   after a call. */
    .globl glue_quick
    .type glue_quick, @function
glue_quick:
    save_registers
    cld
    movl $1, %fs:CTX_RECOVER /* RECOVER_CALL */
    mov %fs:CTX_ARGUMENT, %eax
    mov %fs:CTX_SELF, %rcx
    lea quick_functions(%rip), %r11
    call *(%r11,%rax,8)
    movq $0, %fs:CTX_RECOVER
    test %edx, %edx
    jz 1f
    mov %rax, %fs:CTX_REGISTERS+0
    jmp glue_quick_leave
1:  movq $0x202, %fs:CTX_FLAGS
    mov %fs:CTX_SELF, %rdi
    call dispatch_call
    cmpl $0, %fs:CTX_PENDING
    jne glue_pending
    jmp glue_restore_registers
glue_quick_missed:
    mov %fs:CTX_ENGINE_SP, %rsp
    movq $0x202, %fs:CTX_FLAGS
    mov %fs:CTX_SELF, %rdi
    call dispatch_quick_left
    jmp glue_enter

/* A replaced function met a bad pointer: everything of the guest is in the
   context, so its C frames are simply left. */
    .globl glue_call_fault
glue_call_fault:
    mov %fs:CTX_ENGINE_SP, %rsp
    cld
    mov %fs:CTX_SELF, %rdi
    call dispatch_call_fault
    jmp glue_enter

/* A store meets D that is not 0: RCX is the address, EDX the size and WAY_*, both
   spilled, CTX_TARGET where to go on. Mostly the bytes may be written and only
   become defined: that is all here, without a call. A load of undefined bytes in
   the dirty version comes here, too, to note where they are from, and a store of
   such that was done. What is not as usual leaves for C. */
    .globl glue_store
glue_store:
    jmp glue_any_store

/* The commonest of all: flags are dead, RCX is spilled, and the place lies between the
   stack pointer and the return address on top of the shadow call stack, in a frame of
   ordinary size. What differs is looked at below. CTX_TARGET as there. */
    .macro frame_store name, size, way
    .globl \name
\name:
    .if \way
    cmp %fs:CTX_STACK_LOW, %rcx
    jb 2f
    .endif
    mov %rax, %fs:CTX_SPILL+0
    mov %fs:CTX_SHADOW, %rax
    mov -16(%rax), %rax /* its stack_pointer */
    sub %rcx, %rax
    sub $\size, %rax
    cmp $0xffff, %rax
    ja 1f
    cmp %rsp, %rcx
    jb 1f
    .if \size == 1
    movb $0, %gs:(%rcx)
    .elseif \size == 2
    movw $0, %gs:(%rcx)
    .elseif \size == 4
    movl $0, %gs:(%rcx)
    .else
    movq $0, %gs:(%rcx)
    .if \size == 16
    movq $0, %gs:8(%rcx)
    .endif
    .endif
    mov %fs:CTX_SPILL+0, %rax
    mov %fs:CTX_SPILL+8, %rcx
    jmp *%fs:CTX_TARGET
1:  mov %fs:CTX_SPILL+0, %rax
    mov %rdx, %fs:CTX_SPILL+16
    mov $(\size | WAY_FRAMES | \way), %edx
    jmp glue_plain_store
    .if \way
2:  mov %rax, %fs:CTX_SPILL+0
    mov %rdx, %fs:CTX_SPILL+16
    mov $(\size | WAY_FRAMES | \way), %edx
    jmp glue_heap_store
    .endif
    .endm
    frame_store glue_frame_store_1, 1, 0
    frame_store glue_frame_store_2, 2, 0
    frame_store glue_frame_store_4, 4, 0
    frame_store glue_frame_store_8, 8, 0
    frame_store glue_frame_store_16, 16, 0
    frame_store glue_strange_store_1, 1, WAY_STRANGE
    frame_store glue_strange_store_2, 2, WAY_STRANGE
    frame_store glue_strange_store_4, 4, WAY_STRANGE
    frame_store glue_strange_store_8, 8, WAY_STRANGE
    frame_store glue_strange_store_16, 16, WAY_STRANGE

/* The next commonest: flags are dead, EDX holds WAY_FRAMES besides. */
    .globl glue_plain_store
glue_plain_store:
    mov %rax, %fs:CTX_SPILL+0
    cmp %fs:CTX_STACK_HIGH, %rcx
    jae 3f
    cmp %fs:CTX_STACK_LOW, %rcx
    jb 3f
    cmp %fs:CTX_STACK_LOW, %rsp
    jb 3f
    cmp %rsp, %rcx
    jb 7f
    mov %fs:CTX_SHADOW, %rax
    sub $7, %rcx
1:  sub $24, %rax /* sizeof(struct shadow_entry) */
    sub $0x10000, %edx
    js 8f
    cmp %rcx, 8(%rax) /* its stack_pointer: is the slot below the address? */
    jb 1b
    mov 8(%rax), %rax
    add $7, %rcx
    sub %rcx, %rax
    movzbl %dl, %edx
    cmp %rdx, %rax
    jl 9f /* over a return address */
4:  cmp $8, %edx
    jne 5f
    movq $0, %gs:(%rcx)
2:  mov %fs:CTX_SPILL+0, %rax
    mov %fs:CTX_SPILL+8, %rcx
    mov %fs:CTX_SPILL+16, %rdx
    jmp *%fs:CTX_TARGET
5:  jb 6f
    movq $0, %gs:(%rcx)
    add $8, %rcx
    sub $8, %edx
    jmp 4b
6:  sub $4, %edx
    jb 6f
    movl $0, %gs:(%rcx)
    jz 2b
    add $4, %rcx
    jmp 5f
6:  add $4, %edx
5:  jz 2b
    movb $0, %gs:(%rcx)
    inc %rcx
    dec %edx
    jmp 5b
glue_heap_store:
3:  load_forbidden
    movzbl %dl, %edx
    test %rax, %rax
    jz 4b
    jmp 9f
7:  /* of the red zone, as below */
    cmp %fs:CTX_STACK_HIGH, %rsp
    ja 3b
    testl $WAY_STRANGE, %edx
    movzbl %dl, %edx
    jnz 9f
    mark_red_zone 4b
8:  add $7, %rcx
9:  mov %fs:CTX_SPILL+0, %rax
    mov %fs:CTX_SPILL+8, %rcx
    mov %fs:CTX_SPILL+16, %rdx
    movl $EXIT_CHECK, %fs:CTX_REASON
    jmp glue_exit

glue_any_store:
    mov %rax, %fs:CTX_SPILL+0
    lahf
    seto %al
    mov %rax, %fs:CTX_FLAG_SAVE
    mov %edx, %fs:CTX_WAY
    testl $WAY_ORIGIN, %fs:CTX_WAY
    movzbl %dl, %edx
    jnz glue_origin
    cmp %fs:CTX_STACK_HIGH, %rcx
    jae 3f
    cmp %fs:CTX_STACK_LOW, %rcx
    jb 3f
    cmp %fs:CTX_STACK_LOW, %rsp
    jb 6f
    cmp %fs:CTX_STACK_HIGH, %rsp
    ja 6f
    cmp %rsp, %rcx
    jb 2f
    /* in which frame? Return addresses are not to be overwritten. */
    mov %rbx, %fs:CTX_SPILL+24
    mov %rbp, %fs:CTX_SPILL+40
    mov %fs:CTX_SHADOW, %rax
    lea -24*64(%rax), %rbp
1:  sub $24, %rax /* sizeof(struct shadow_entry) */
    cmp %rbp, %rax
    je 4f
    mov 8(%rax), %rbx /* its stack_pointer */
    add $8, %rbx
    cmp %rcx, %rbx
    jbe 1b
    sub $8, %rbx
    sub %rdx, %rbx
    cmp %rcx, %rbx
    mov %fs:CTX_SPILL+24, %rbx
    mov %fs:CTX_SPILL+40, %rbp
    jb 9f
    jmp 5f
4:  mov %fs:CTX_SPILL+24, %rbx
    mov %fs:CTX_SPILL+40, %rbp
    jmp 9f
6:  testl $WAY_LOAD, %fs:CTX_WAY /* from another stack, of a return address? */
    jnz 9f
    jmp 3f
2:
    testl $WAY_STRANGE, %fs:CTX_WAY
    jnz 9f
    mark_red_zone 5f
3:  load_forbidden
    test %rax, %rax
    jnz 9f
5:  testl $WAY_LOAD, %fs:CTX_WAY
    jnz glue_load
    cmp $8, %edx
    jb 6f
7:  movq $0, %gs:(%rcx)
    add $8, %rcx
    sub $8, %edx
    cmp $8, %edx
    jae 7b
6:  test %edx, %edx
    jz 8f
    movb $0, %gs:(%rcx)
    inc %rcx
    dec %edx
    jmp 6b
8:
glue_store_done:
    mov %fs:CTX_FLAG_SAVE, %rax
    add $127, %al
    sahf
    mov %fs:CTX_SPILL+0, %rax
    mov %fs:CTX_SPILL+8, %rcx
    mov %fs:CTX_SPILL+16, %rdx
    jmp *%fs:CTX_TARGET
9:
glue_store_slow:
    movl $EXIT_CHECK, %fs:CTX_REASON
    testl $WAY_LOAD | WAY_ORIGIN, %fs:CTX_WAY
    jz 1f
    movl $EXIT_UNDEFINED, %fs:CTX_REASON
1:  mov %fs:CTX_FLAG_SAVE, %rax
    add $127, %al
    sahf
    mov %fs:CTX_SPILL+0, %rax
    mov %fs:CTX_SPILL+8, %rcx
    mov %fs:CTX_SPILL+16, %rdx
    jmp glue_exit

/* Back from C: of the flags that pushfq has put behind a word on the stack. Not by popfq: the
   trap flag may have been set to step through here, and is not any more. */
    .macro restore_direction
    testl $0x400, 8(%rsp)
    lea 16(%rsp), %rsp
    jz 1f
    std
1:
    .endm

/* A word of memory that has the code in ESI: on at `other` unless its bytes RDI to R9 less 1
   (of 0 to 3) are from where `code` says, each for itself. Changes RSI, RDI, R10. */
    .macro unless_from code, other
    cmp $ORIGIN_BYTE_CODES, %esi
    jge .Lbytes\@
    lea -1(%rsi), %r10d /* with ORIGIN_OWN parts: below ORIGIN_LEAST */
    cmp $ORIGIN_LEAST - 1, %r10d
    jae \other
    jmp .Lfour\@
.Lbytes\@:
    sub $ORIGIN_BYTE_CODES, %esi
.Lfour\@:
    imul $ORIGIN_FOUR, %rsi
    add origin_fours(%rip), %rsi
.Lnext\@:
    cmp \code, (%rsi,%rdi,4)
    jne \other
    inc %edi
    cmp %r9d, %edi
    jb .Lnext\@
    .endm

/* The origin of the first undefined byte loaded: recorded, or derived from where
   it lies; see origin_at. */
glue_load:
    cmp %fs:CTX_STACK_LOW, %rsp /* on a stack of the program's own: C knows more */
    jb glue_store_slow
    cmp %fs:CTX_STACK_HIGH, %rsp
    ja glue_store_slow
    mov %rcx, %fs:CTX_SCRATCH
0:  cmpb $0, %gs:(%rcx)
    jne 1f
    inc %rcx
    dec %edx
    jnz 0b
    jmp glue_store_done
1:  movabs $0x0ffffffffffc, %rax
    and %rcx, %rax
    movabs $0x640000000000, %rdx
    mov (%rax,%rdx), %eax
    bts $32, %rax /* recorded */
    cmp $ORIGIN_BYTE_CODES, %eax /* by byte: below those of stack slots */
    jge 3f
    cmp $ORIGIN_LEAST, %eax
    jae 4f
    test %eax, %eax
    jnz 5f
    mov %rcx, %rax
    shr $40, %rax
    cmp $0x0a, %eax /* HEAP_BASE */
    je 2f
    movabs $0x1fffff000000, %rax
    cmp %rax, %fs:CTX_STACK_HIGH
    jne glue_note
    sub %rcx, %rax
    mov $ORIGIN_STACK_CODES, %edx
    cmp %rdx, %rax
    jae glue_note
    add %edx, %eax
    jmp 4f
2:  mov %rsi, %fs:CTX_REGISTERS+48
    mov %rdi, %fs:CTX_REGISTERS+56
    mov %r8, %fs:CTX_REGISTERS+64
    mov %r9, %fs:CTX_REGISTERS+72
    mov %r10, %fs:CTX_REGISTERS+80
    mov %r11, %fs:CTX_REGISTERS+88
    mov %rsp, %fs:CTX_REGISTERS+32
    mov %fs:CTX_ENGINE_SP, %rsp
    pushfq
    sub $8, %rsp
    cld
    mov %rcx, %rdi
    call origin_of_block
    restore_direction
    restore_more
    mov %fs:CTX_REGISTERS+32, %rsp
    mov %eax, %eax
    test %eax, %eax
    jz glue_note
    jmp 4f
3:  sub $ORIGIN_BYTE_CODES, %eax
5:  mov %eax, %eax
    and $3, %ecx
    imul $ORIGIN_FOUR, %rax
    add origin_fours(%rip), %rax
    mov (%rax,%rcx,4), %eax
    bts $32, %rax
    cmp $ORIGIN_LEAST, %eax /* ORIGIN_OWN is below 0 */
    jl glue_note
4:  /* All words are to have it, then it is found inline next time; C sees to what differs, as
       words without one may where this one was recorded. Where nothing is recorded on a stack
       nothing is now. */
    movzbl %fs:CTX_WAY, %edx
    mov %fs:CTX_SCRATCH, %rcx
    mov %rbp, %fs:CTX_SPILL+40
    mov %ecx, %ebp
    and $3, %ebp
    add %ebp, %edx /* bytes from the first word on */
    mov %rbx, %fs:CTX_SPILL+24
    movabs $0x0ffffffffffc, %rbp
    movabs $0x640000000000, %rbx
    and %rcx, %rbp
    add %rbx, %rbp
    add %rbp, %rdx
5:  mov (%rbp), %ebx
    test %ebx, %ebx
    jz 6f
    cmp %eax, %ebx
    jne 1f
7:  add $4, %rbp
    cmp %rdx, %rbp
    jb 5b
    mov %fs:CTX_SPILL+24, %rbx
2:  mov %fs:CTX_SPILL+40, %rbp
    bt $32, %rax
    jnc 3f
    mov %fs:CTX_ODD_AT, %edx /* it is found by its words next time */
    test %edx, %edx
    jz 3f
    mov %rbx, %fs:CTX_SPILL+24
    add %fs:CTX_SELF, %rdx
    mov %eax, ODD_CODE(%rdx)
    movzbl %fs:CTX_WAY, %ebx
    shl $ODD_SHIFT, %ebx
    mov %ebx, ODD_SHAPE(%rdx)
    mov %ecx, %ebx
    and $3, %ebx
    or %ebx, ODD_SHAPE(%rdx)
    movabs $0x0ffffffffffc, %rbx
    and %rbx, %rcx
    movabs $0x640000000000, %rbx
    add %rbx, %rcx
    mov (%rcx), %rbx
    mov %rbx, ODD_WORDS(%rdx)
    mov 8(%rcx), %ebx
    mov %ebx, ODD_WORDS+8(%rdx)
    mov %fs:CTX_SPILL+24, %rbx
3:  mov %fs:CTX_WAY, %ecx
    shr $WAY_SLOT, %ecx
    mov %eax, %eax
    imul %fs:CTX_TWICE, %rax
    cmp $ELEMENT_VECTOR, %ecx
    lea (%rcx,%rcx), %ecx
    mov %rax, %fs:CTX_ORIGIN(,%rcx,8)
    jb glue_store_done
    mov %rax, %fs:CTX_ORIGIN+8(,%rcx,8)
    mov %rax, %fs:CTX_ORIGIN+16(,%rcx,8)
    mov %rax, %fs:CTX_ORIGIN+24(,%rcx,8)
    jmp glue_store_done
6:  bt $32, %rax
    jc 8f
    cmp %fs:CTX_STACK_HIGH, %rcx
    jae 9f
    cmp %fs:CTX_STACK_LOW, %rcx
    jae 7b
9:  mov %eax, (%rbp)
    mov %rcx, %rbx
    shr $16, %rbx
    btsq $44, %rbx /* its flag lies at 0x740000000000: see shadow_start */
    add %fs:CTX_ORIGINS, %rbx
    movb $1, (%rbx)
    jmp 7b
1:  save_more /* the bytes that are loaded may have it, others not */
    mov %ebx, %esi
    mov %rcx, %rdi
    xor %rbp, %rdi
    test $0x0ffffffc, %edi /* an earlier word than this: all from its first byte on */
    mov $0, %edi
    cmovz %ecx, %edi
    and $3, %edi
    mov %rdx, %r9
    sub %rbp, %r9
    mov $4, %r10d
    cmp %r10, %r9
    cmova %r10, %r9
    unless_from %eax, 1f
    restore_more
    jmp 7b
1:  restore_more
8:  mov %fs:CTX_SPILL+24, %rbx
    mov %fs:CTX_SPILL+40, %rbp
/* Only the origin is left to be noted: by C, but without the door. */
glue_note:
    save_more
    mov %rsp, %fs:CTX_REGISTERS+32
    mov %fs:CTX_ENGINE_SP, %rsp
    xor %eax, %eax
    pushfq
    sub $8, %rsp
    testl $0x40000, 8(%rsp) /* AC: C reads unaligned words */
    jnz 1f
    cld
    mov %fs:CTX_SELF, %rdi
    call glue_note_origin
1:
    restore_direction
    restore_more
    mov %fs:CTX_REGISTERS+32, %rsp
    test %al, %al
    jnz glue_store_done
    jmp glue_store_slow

/* Words of origin from CTX_ORIGIN + RBX to R8 in which names of stack slots become records,
   where they did so before (remember_kept in shadow.c); changes all but RCX, R8. R11D is the
   name before, 0: none, and EDX what became of it. */
    .macro names_to_records missing
1:  mov %fs:CTX_ORIGIN(%rbx), %r9
    mov $2, %r10d
2:  mov %r9d, %eax
    test %eax, %eax
    jns 6f
    cmp %eax, %r11d
    je 5f
    mov %eax, %r11d
    mov %fs:CTX_PC, %ebp
    mov %eax, %esi
    shr $6, %esi
    xor %eax, %esi
    xor %ebp, %esi
    and $KEPT_COUNT - 1, %esi
    shl $7, %esi /* KEPT_SIZE */
    add %fs:CTX_SELF, %rsi
    cmp %eax, CTX_KEPT+KEPT_CODE(%rsi)
    jne \missing
    cmp %ebp, CTX_KEPT+KEPT_PC(%rsi)
    jne \missing
    mov %fs:CTX_PC+4, %ebp
    cmp %ebp, CTX_KEPT+KEPT_PC+4(%rsi)
    jne \missing
    add $CTX_KEPT+KEPT_LEVELS, %rsi
    movabs $0x1fffff000000, %rbp /* STACK_TOP */
    btr $31, %eax /* less ORIGIN_STACK_CODES */
    sub %rax, %rbp
    mov %fs:CTX_SHADOW, %rdi
3:  sub $24, %rdi /* sizeof(struct shadow_entry) */
    mov 8(%rdi), %rax /* its stack_pointer */
    cmp %rax, 8(%rsi)
    jne \missing
    cmp %rbp, %rax
    jbe 4f
    mov 20(%rdi), %eax /* its node */
    test %eax, %eax
    jz 4f
    cmp %eax, 20(%rsi)
    jne \missing
    mov 16(%rsi), %edx /* the record's code */
5:  shr $32, %r9
    shl $32, %r9
    or %rdx, %r9
6:  ror $32, %r9
    dec %r10d
    jnz 2b
    mov %r9, %fs:CTX_ORIGIN(%rbx)
    add $8, %ebx
    cmp %r8d, %ebx
    jb 1b
    jmp 7f
4:  mov (%rdi), %rax /* its return_address */
    cmp %rax, (%rsi)
    jne \missing
    add $KEPT_LEVEL, %rsi
    jmp 3b
7:
    .endm

/* Of all elements in CTX_DIRTY, before a return: goes on at CTX_TARGET, or at
   CTX_GUEST_TARGET where C has to be asked. Flags are dead. */
    .globl glue_names
glue_names:
    mov %rax, %fs:CTX_SPILL+0
    mov %rcx, %fs:CTX_SPILL+8
    mov %rdx, %fs:CTX_SPILL+16
    mov %rbx, %fs:CTX_SPILL+24
    mov %rbp, %fs:CTX_SPILL+40
    save_more
    mov %fs:CTX_DIRTY, %rcx
    xor %r11d, %r11d
glue_names_next:
    bsf %rcx, %rbx
    jz glue_names_found
    btr %rbx, %rcx
    mov $8, %r8d
    mov %ebx, %eax
    shl $4, %ebx
    cmp $ELEMENT_VECTOR, %eax
    jb 2f
    mov $16, %r8d
    mov %eax, %ebx /* see ORIGIN_SLOT */
    shl $5, %ebx
    sub $16*ELEMENT_VECTOR, %ebx
    cmp $ELEMENT_UPPER, %eax
    jb 2f
    sub $32*ELEMENT_UPPER-32*ELEMENT_VECTOR-16, %ebx
2:  add %ebx, %r8d
    cmp $ELEMENT_FLAGS, %eax /* of a register that is defined they mean nothing */
    jae 2f
    cmpq $0, %fs:CTX_UNDEFINED(,%rax,8)
    jne 2f
    movq $0, %fs:CTX_ORIGIN(%rbx)
    jmp glue_names_next
2:  names_to_records glue_names_missing
    jmp glue_names_next
glue_names_missing:
    mov %fs:CTX_GUEST_TARGET, %rax
    mov %rax, %fs:CTX_TARGET
glue_names_found:
    restore_more
    mov %fs:CTX_SPILL+40, %rbp
    mov %fs:CTX_SPILL+24, %rbx
    mov %fs:CTX_SPILL+16, %rdx
    mov %fs:CTX_SPILL+8, %rcx
    mov %fs:CTX_SPILL+0, %rax
    jmp *%fs:CTX_TARGET

/* The same of the element that a store could not note; then the store begins again. */
glue_origin_names:
    save_more
    mov %fs:CTX_WAY, %ebx
    shr $WAY_SLOT, %ebx
    shl $4, %ebx
    lea (%rbx,%rdx), %r8d
    xor %r11d, %r11d
    cmp $4, %edx
    ja 1f
    mov %fs:CTX_ORIGIN(%rbx), %eax /* there is one word */
    imul %fs:CTX_TWICE, %rax
    mov %rax, %fs:CTX_ORIGIN(%rbx)
1:  names_to_records glue_origin_missing
    movzbl %fs:CTX_WAY, %edx
    restore_more
    jmp glue_origin_again
glue_origin_missing:
    restore_more
    jmp glue_origin_slow

/* Origins are noted for RDX bytes at RCX: the return that ends the frame sees to them. Changes
   RAX. */
    .macro note_mark
    cmp %fs:CTX_STACK_HIGH, %rcx
    jae 3f
    cmp %fs:CTX_STACK_LOW, %rcx
    jb 3f
    mov %rcx, %rax
    and $-8, %rax
    cmp %fs:CTX_MARK_ORIGIN, %rax
    jae 2f
    mov %rax, %fs:CTX_MARK_ORIGIN
    cmp %fs:CTX_MARK, %rax
    jae 2f
    mov %rax, %fs:CTX_MARK
2:  lea (%rcx,%rdx), %rax
    cmp %fs:CTX_MARK_HIGH, %rax
    jbe 3f
    mov %rax, %fs:CTX_MARK_HIGH
3:
    .endm

/* As store_origins in evaluate.c. */
glue_origin:
    mov %rcx, %fs:CTX_SCRATCH
    mov %rbx, %fs:CTX_SPILL+24
    mov %rbp, %fs:CTX_SPILL+40
glue_origin_again:
    mov %fs:CTX_WAY, %ebx
    shr $WAY_SLOT, %ebx
    shl $4, %ebx
    cmp $8, %edx
    ja 5f
    mov %fs:CTX_ORIGIN(%rbx), %rbx
    mov %ebx, %eax
    cmp $ORIGIN_LEAST, %ebx
    jge 2f
    cmpl $0, %gs:(%rcx) /* of defined ones they mean nothing */
    jne 4f
2:  cmp $4, %edx
    jbe 1f
    mov %rbx, %rax
    shr $32, %rax
    cmp $ORIGIN_LEAST, %eax
    jge 1f
    cmpl $0, %gs:4(%rcx)
    je 1f
4:  /* names of slots may stand in the running frame only */
    cmp $ORIGIN_LEAST, %eax
    jb glue_origin_slow
    lea 8(%rcx), %rax
    cmp %rsp, %rax
    jb glue_origin_names
    mov %fs:CTX_SHADOW, %rax
    cmp -16(%rax), %rcx
    jae glue_origin_names
    cmp $4, %edx
    jbe 1f
    mov %rbx, %rax
    shr $32, %rax
    cmp $ORIGIN_LEAST, %eax
    jae 1f
    cmpl $0, %gs:4(%rcx)
    jne glue_origin_slow
1:  note_mark
    mov %ecx, %eax
    or %edx, %eax
    test $3, %al
    jnz 9f
glue_origin_word:
    movabs $0x0ffffffffffc, %rax
    movabs $0x640000000000, %rbp
    and %rcx, %rax
    add %rbp, %rax
    sub $8, %edx
    jb 6f
    mov %rbx, (%rax)
    jmp 7f
6:  mov %ebx, (%rax)
    jmp 7f
5:  /* several pieces: from the slot to the place, all of them or none */
    test $7, %dl
    jnz glue_origin_slow
    test $3, %cl
    jnz glue_origin_slow
    lea (%rbx,%rdx), %rbp
2:  mov %fs:CTX_ORIGIN(%rbx), %eax
    cmp $ORIGIN_LEAST, %eax
    jge 1f
    mov %rbx, %rax /* of defined ones they mean nothing */
    sub %rbp, %rax
    add %rdx, %rax
    cmpl $0, %gs:(%rcx,%rax)
    je 1f
    cmpl $ORIGIN_LEAST, %fs:CTX_ORIGIN(%rbx)
    jb glue_origin_slow
    lea 8(%rcx), %rax
    cmp %rsp, %rax
    jb glue_origin_names
    mov %fs:CTX_SHADOW, %rax
    cmp -16(%rax), %rcx
    jae glue_origin_names
1:  add $4, %rbx
    cmp %rbp, %rbx
    jb 2b
    note_mark
    movabs $0x0ffffffffffc, %rax
    movabs $0x640000000000, %rbp
    and %rcx, %rax
    add %rbp, %rax
    sub %rdx, %rbx
4:  mov %fs:CTX_ORIGIN(%rbx), %rbp
    mov %rbp, (%rax)
    add $8, %rax
    add $8, %rbx
    sub $8, %edx
    ja 4b
7:
glue_origin_noted:
    shr $16, %rcx
    movabs $0x740000000000, %rax
    movb $1, (%rax,%rcx)
    mov %fs:CTX_SPILL+24, %rbx
    mov %fs:CTX_SPILL+40, %rbp
    jmp glue_store_done
    /* Parts of words: when they are recorded already, or the other bytes are defined. */
9:  cmp $ORIGIN_BYTE_CODES, %ebx
    jge 8f
    cmp $4, %edx
    jbe 1f
    mov %rbx, %rax
    ror $32, %rax
    cmp %rax, %rbx
    jne 8f
1:  movabs $0x0ffffffffffc, %rax
    movabs $0x640000000000, %rbp
    and %rcx, %rax
    add %rbp, %rax
    mov %ecx, %ebp
    and $3, %ebp
    add %edx, %ebp
1:  cmp %ebx, (%rax)
    jne 2f
4:  add $4, %rax
    sub $4, %ebp
    ja 1b
    jmp glue_origin_noted
2:  save_more
    mov $4, %r9d /* its bytes RDI to R9 less 1 are stored */
    cmp %r9d, %ebp
    cmovb %ebp, %r9d
    mov %rcx, %r8 /* the word's address: from the place of its origin */
    and $-4, %r8
    mov %eax, %r10d
    sub %r8d, %r10d
    and $0x0fffffff, %r10d
    add %r10, %r8
    mov %ecx, %edi
    and $3, %edi
    xor %r11d, %r11d
    cmp %rcx, %r8
    cmova %r11d, %edi
    mov %gs:(%r8), %esi /* a bit for each byte that is not all defined */
    mov %esi, %r10d
    and $0x7f7f7f7f, %r10d
    add $0x7f7f7f7f, %r10d
    or %r10d, %esi
    shr $7, %esi
    and $0x01010101, %esi
    imul $0x10204080, %esi, %esi
    shr $28, %esi
    xchg %rcx, %rdi
    mov $1, %r10d
    mov $1, %r11d
    shl %cl, %r11d
    mov %r9d, %ecx
    shl %cl, %r10d
    sub %r11d, %r10d /* of these are stored */
    mov %rdi, %rcx
    mov %esi, %edi
    and %r10d, %edi
    jz 7f
    not %r10d
    and %r10d, %esi
    jz 3f
    cmp $ORIGIN_LEAST, %ebx
    jl 2f
    shl $4, %esi
    lea FOURS_KNOWN(%rsi,%rdi), %edi
    mov (%rax), %r8d
    mov %ebx, %esi
    rol $FOURS_TURN, %esi
    xor %r8d, %esi
    xor %edi, %esi
    imul $FOURS_FACTOR, %esi, %esi
    shr $32-FOURS_BITS, %esi
    shl $4, %esi
    add %fs:CTX_SELF, %rsi
    cmp %r8d, CTX_FOURS+FOURS_OLD(%rsi)
    jne 2f
    cmp %ebx, CTX_FOURS+FOURS_CODE(%rsi)
    jne 2f
    cmp %edi, CTX_FOURS+FOURS_WHICH(%rsi)
    jne 2f
    mov CTX_FOURS+FOURS_NOW(%rsi), %esi
    mov %esi, (%rax)
    jmp 1f
7:  test %esi, %esi /* of a defined word it means nothing: the next store finds all alike */
    jnz 1f
    cmp $ORIGIN_LEAST, %ebx
    jl 1f
3:  mov %ebx, (%rax)
1:  restore_more
    jmp 4b
2:  restore_more
glue_origin_slow:
8:  mov %fs:CTX_SPILL+24, %rbx
    mov %fs:CTX_SPILL+40, %rbp
    jmp glue_note

/* A return passed CTX_MARK: the red zone that was written to becomes undefined
   again, recorded origins of what was released are forgotten. Flags are dead. */
    .globl glue_mark
glue_mark:
    mov %rcx, %fs:CTX_SPILL+8
    mov %fs:CTX_MARK, %rcx /* mostly it is near, and origins are recorded but in outer frames */
    sub %rsp, %rcx
    cmp $-128, %rcx
    jb 9f
    cmp %rsp, %fs:CTX_MARK_ORIGIN
    jb 5f
0:  movq $-1, %gs:(%rsp,%rcx)
    add $8, %rcx
    js 0b
    mov %fs:CTX_MARK_ORIGIN, %rcx /* or none: -1 */
    mov %rcx, %fs:CTX_MARK
    mov %fs:CTX_SPILL+8, %rcx
    jmp *%fs:CTX_TARGET
5:  mov %rax, %fs:CTX_SPILL+0 /* or near by as well */
    mov %fs:CTX_MARK, %rax
    cmp %rax, %fs:CTX_MARK_ORIGIN
    jb 7f
    mov %rsp, %rax /* the place of its origin */
    btr $44, %rax
    add %fs:CTX_ORIGINS, %rax
0:  movq $-1, %gs:(%rsp,%rcx)
    movq $0, (%rax,%rcx)
    add $8, %rcx
    js 0b
    mov %rsp, %rcx
    jmp 3f
9:  mov %rax, %fs:CTX_SPILL+0
7:  cmp %fs:CTX_STACK_LOW, %rsp
    jb 8f
    cmp %fs:CTX_STACK_HIGH, %rsp
    ja 8f
    mov %fs:CTX_MARK, %rcx /* a frame may lie between it and the return address */
    lea -65536(%rsp), %rax
    cmp %rax, %rcx
    cmovb %rax, %rcx
1:  movq $-1, %gs:(%rcx)
    add $8, %rcx
    cmp %rsp, %rcx
    jb 1b
    mov %fs:CTX_MARK_ORIGIN, %rcx
    cmp %rsp, %rcx
    jae 3f
    cmp %rax, %rcx
    cmovb %rax, %rcx
    mov %rdx, %fs:CTX_SPILL+16
    movabs $0x0fffffffffff, %rax /* ORIGIN_SIZE - 1 */
    movabs $0x640000000000, %rdx /* ORIGIN_BASE */
    and %rcx, %rax
    add %rdx, %rax
2:  movq $0, (%rax)
    add $8, %rax
    add $8, %rcx
    cmp %rsp, %rcx
    jb 2b
    mov %fs:CTX_SPILL+16, %rdx
    mov %rsp, %rcx
3:  cmp %rsp, %fs:CTX_MARK_HIGH
    jbe 4f
    mov %rcx, %fs:CTX_MARK
    mov %rcx, %fs:CTX_MARK_ORIGIN
    jmp 8f
4:  movq $-1, %fs:CTX_MARK
    movq $-1, %fs:CTX_MARK_ORIGIN
    movq $0, %fs:CTX_MARK_HIGH
8:  mov %fs:CTX_SPILL+0, %rax
    mov %fs:CTX_SPILL+8, %rcx
    jmp *%fs:CTX_TARGET
/* Back from a quick call; a signal's handler steps through from here on. */
glue_quick_leave:
    mov %fs:CTX_REGISTERS+32, %rsp
    mov %fs:CTX_SHADOW, %rdx
    mov -24(%rdx), %rcx /* return_address of the top entry */
    cmp (%rsp), %rcx
    jne glue_quick_missed
    cmp %rsp, -16(%rdx)
    jne glue_quick_missed
    cmpl $0, %fs:CTX_PENDING
    jne glue_quick_missed
    sub $24, %rdx
    mov 16(%rdx), %ecx
    add %fs:CTX_CACHE_BASE, %rcx
    mov %rdx, %fs:CTX_SHADOW
    add $8, %rsp
    jmp *%rcx

/* memcpy and memmove of 8 to 64 bytes that are defined, touchable and apart, without
   leaving the guest's stack; all else goes on at glue_quick with the arguments as they
   came. So do faults, and only what no call preserves is changed. */
    .macro each_word op, base, size /* the words of `size` bytes; the last overlap those before */
    \op 0, \base
    \op -8, \base, \size
    cmp $16, \size
    jbe 1f
    \op 8, \base
    \op -16, \base, \size
    cmp $32, \size
    jbe 1f
    \op 16, \base
    \op 24, \base
    \op -24, \base, \size
    \op -32, \base, \size
1:
    .endm
    .macro seen_bits at, base, size
    .ifb \size
    or %gs:\at(\base), %r8
    .else
    or %gs:\at(\base,\size), %r8
    .endif
    .endm
    .macro defined_bits at, base, size
    .ifb \size
    movq $0, %gs:\at(\base)
    .else
    movq $0, %gs:\at(\base,\size)
    .endif
    .endm
    .macro moved_word at, base, size
    .ifb \size
    mov \at(%rsi), %r8
    mov %r8, \at(\base)
    .else
    mov \at(%rsi,\size), %r8
    mov %r8, \at(\base,\size)
    .endif
    .endm

    .macro changed_origin half /* R8D at the target, where it is not already */
    test %r8d, %r8d
    jz glue_quick
    cmp %r8d, \half(%r11,%rcx)
    je 4f
    cmpl $0, \half(%r11,%rcx)
    je glue_quick
    test %r8d, %r8d
    js glue_quick
    mov %r8d, \half(%r11,%rcx)
4:
    .endm

    .globl glue_copy_few
glue_copy_few:
    lea -8(%rdx), %rax
    cmp $56, %rax
    ja glue_quick
    mov %rdi, %rax
    sub %rsi, %rax
    lea -1(%rdx,%rax), %rcx /* apart: neither distance is below the size */
    lea -1(%rdx,%rdx), %r8
    cmp %r8, %rcx
    jb glue_quick
    mov %fs:CTX_SHADOW, %r9
    mov -24(%r9), %rcx /* return_address of the top entry */
    cmp (%rsp), %rcx
    jne glue_quick
    cmp %rsp, -16(%r9)
    jne glue_quick
    cmpl $0, %fs:CTX_PENDING
    jne glue_quick
    xor %r8d, %r8d
    each_word seen_bits, %rsi, %rdx
    test %r8, %r8
    jnz copy_few_undefined
    each_word seen_bits, %rdi, %rdx
    test %r8, %r8
    jnz 3f
copy_few_values:
2:  each_word moved_word, %rdi, %rdx
    mov %rdi, %rax
    sub $24, %r9
    mov 16(%r9), %ecx
    add %fs:CTX_CACHE_BASE, %rcx
    mov %r9, %fs:CTX_SHADOW
    add $8, %rsp
    jmp *%rcx
3:  cmp %fs:CTX_STACK_HIGH, %rdi
    jae 4f
    cmp %fs:CTX_STACK_LOW, %rdi
    jb 4f
    lea 8(%rsp), %rax /* within the caller's frame */
    cmp %rax, %rdi
    jb glue_quick
    lea (%rdi,%rdx), %rax
    cmp -40(%r9), %rax /* stack_pointer of the entry below */
    ja glue_quick
    jmp 5f
4:  cmp $56, %rdx /* bits of A in one word, wherever it begins */
    ja glue_quick
    mov %rdi, %rcx
    load_forbidden
    test %rax, %rax
    jnz glue_quick
5:  each_word defined_bits, %rdi, %rdx
    jmp 2b
    /* Undefined bytes over the same undefined bytes: only origins may change, where one
       is recorded already and none is a stack slot's name. */
copy_few_undefined:
    mov %edi, %eax
    or %esi, %eax
    or %edx, %eax
    test $3, %al
    jnz glue_quick
    movabs $0x0fffffffffff, %rax /* ORIGIN_SIZE - 1 */
    movabs $0x640000000000, %r8 /* ORIGIN_BASE */
    mov %rsi, %r10
    mov %rdi, %r11
    and %rax, %r10
    and %rax, %r11
    add %r8, %r10
    add %r8, %r11
    xor %ecx, %ecx
1:  mov %gs:(%rsi,%rcx), %rax
    cmp %rax, %gs:(%rdi,%rcx)
    jne glue_quick
    test %rax, %rax
    jz 3f
    mov (%r10,%rcx), %r8
    test %eax, %eax
    jz 2f
    changed_origin 0
2:  shr $32, %r8
    shr $32, %rax
    jz 3f
    changed_origin 4
3:  add $8, %rcx
    lea 8(%rcx), %rax
    cmp %rdx, %rax
    jbe 1b
    cmp %rdx, %rcx
    lea -8(%rdx), %rcx /* the last word overlaps the one before */
    jb 1b
    mov %fs:CTX_SHADOW, %r9
    jmp copy_few_values
    .globl glue_copy_few_end
glue_copy_few_end:
    .globl glue_mark_end
glue_mark_end:

    .globl glue_start
glue_start: /* first entry of a thread: rdi = context */
    mov CTX_ENGINE_SP(%rdi), %rsp
    call dispatch
    jmp glue_enter

/* long glue_syscall(struct context *c, long number, const long arguments[6])
   -512 (NOT_BEGUN): a signal came first and the call was not made.
   A signal that arrives between the test and the instruction would otherwise
   sleep through a blocking call: the handler moves such a thread to
   glue_syscall_interrupted. */
    .globl glue_syscall
glue_syscall:
    push %rbx
    push %rbp
    mov %rdi, %rbp
    mov %rsi, %rax
    mov %rdx, %rbx
    mov 0(%rbx), %rdi
    mov 8(%rbx), %rsi
    mov 16(%rbx), %rdx
    mov 24(%rbx), %r10
    mov 32(%rbx), %r8
    mov 40(%rbx), %r9
    .globl glue_syscall_window
glue_syscall_window:
    cmpl $0, CTX_PENDING(%rbp)
    jne glue_syscall_interrupted
    syscall
    .globl glue_syscall_window_end
glue_syscall_window_end:
    pop %rbp
    pop %rbx
    ret
    .globl glue_syscall_interrupted
glue_syscall_interrupted:
    mov $-512, %rax /* NOT_BEGUN */
    pop %rbp
    pop %rbx
    ret

/* long system_call(long number, a, b, c, d, e, f) */
    .globl system_call
system_call:
    mov %rdi, %rax
    mov %rsi, %rdi
    mov %rdx, %rsi
    mov %rcx, %rdx
    mov %r8, %r10
    mov %r9, %r8
    mov 8(%rsp), %r9
    syscall
    ret

/* int recover_enter(struct context *c): 0 now; 1 when a fault came back here.
   Saves the callee-saved registers in the context's own save area. */
    .globl recover_enter
recover_enter:
    mov (%rsp), %rax
    mov %rax, CTX_RECOVER(%rdi)
    lea 8(%rsp), %rax
    mov %rax, CTX_RECOVER_SP(%rdi)
    mov %rbx, 0x200(%rdi)
    mov %rbp, 0x208(%rdi)
    mov %r12, 0x210(%rdi)
    mov %r13, 0x218(%rdi)
    mov %r14, 0x220(%rdi)
    mov %r15, 0x228(%rdi)
    xor %eax, %eax
    ret
    .globl recover_resume
recover_resume: /* entered from the signal handler; FS is the context */
    mov %fs:CTX_SELF, %rdi
    mov 0x200(%rdi), %rbx
    mov 0x208(%rdi), %rbp
    mov 0x210(%rdi), %r12
    mov 0x218(%rdi), %r13
    mov 0x220(%rdi), %r14
    mov 0x228(%rdi), %r15
    mov CTX_RECOVER_SP(%rdi), %rsp
    mov CTX_RECOVER(%rdi), %rdx
    movq $0, CTX_RECOVER(%rdi)
    mov $1, %eax
    jmp *%rdx

/* The kernel's way out of a signal handler. */
    .globl glue_sigreturn
glue_sigreturn:
    mov $15, %eax
    syscall

/* long glue_clone(flags, stack, ptid, ctid, tls, struct context *child)
   The child goes on in glue_thread with its own context. */
    .globl glue_clone
glue_clone:
    push %rbx
    mov %r9, %rbx
    mov %rcx, %r10
    mov $56, %eax
    syscall
    test %rax, %rax
    jz 1f
    pop %rbx
    ret
1:  mov CTX_ENGINE_SP(%rbx), %rsp
    mov %rbx, %rdi
    call thread_start
    jmp glue_enter

/* uint64_t glue_move_undefined(d_to, d_from, size, origins_to, origins_from): undefined
   bits and where they are from, forwards; returns how much of it was done, a multiple of
   32: it ends before bytes whose origin is not recorded, or goes by the name of a stack
   slot. The guest's vectors stay; of wider ones the rest is not touched. */
    .globl glue_move_undefined
glue_move_undefined:
    sub $0x90, %rsp
    movups %xmm8, 0x80(%rsp)
    movups %xmm0, (%rsp)
    movups %xmm1, 0x10(%rsp)
    movups %xmm2, 0x20(%rsp)
    movups %xmm3, 0x30(%rsp)
    movups %xmm4, 0x40(%rsp)
    movups %xmm5, 0x50(%rsp)
    movups %xmm6, 0x60(%rsp)
    movups %xmm7, 0x70(%rsp)
    pxor %xmm7, %xmm7
    mov $ORIGIN_LEAST - 1, %eax
    movd %eax, %xmm6
    pshufd $0, %xmm6, %xmm6
    xor %eax, %eax
    sub $32, %rdx
    jb 2f
1:  movups (%rsi,%rax), %xmm0
    movups 16(%rsi,%rax), %xmm1
    movups (%r8,%rax), %xmm2
    movups 16(%r8,%rax), %xmm3
    movdqa %xmm2, %xmm4 /* lanes with an origin that may go elsewhere */
    pcmpgtd %xmm6, %xmm4
    movdqa %xmm0, %xmm5 /* and those that need none */
    pcmpeqd %xmm7, %xmm5
    por %xmm4, %xmm5
    pand %xmm4, %xmm2 /* of defined ones without any, that of the target stays */
    movups (%rcx,%rax), %xmm8
    pandn %xmm8, %xmm4
    por %xmm4, %xmm2
    movdqa %xmm3, %xmm4
    pcmpgtd %xmm6, %xmm4
    movdqa %xmm1, %xmm8
    pcmpeqd %xmm7, %xmm8
    por %xmm4, %xmm8
    pand %xmm8, %xmm5
    pand %xmm4, %xmm3
    movups 16(%rcx,%rax), %xmm8
    pandn %xmm8, %xmm4
    por %xmm4, %xmm3
    pmovmskb %xmm5, %r9d
    cmp $0xffff, %r9d
    jne 2f
    movups %xmm0, (%rdi,%rax)
    movups %xmm1, 16(%rdi,%rax)
    movups %xmm2, (%rcx,%rax)
    movups %xmm3, 16(%rcx,%rax)
    add $32, %rax
    cmp %rdx, %rax
    jbe 1b
2:  movups (%rsp), %xmm0
    movups 0x10(%rsp), %xmm1
    movups 0x20(%rsp), %xmm2
    movups 0x30(%rsp), %xmm3
    movups 0x40(%rsp), %xmm4
    movups 0x50(%rsp), %xmm5
    movups 0x60(%rsp), %xmm6
    movups 0x70(%rsp), %xmm7
    movups 0x80(%rsp), %xmm8
    add $0x90, %rsp
    ret

/* long glue_keeper(flags, stack): a process that shares the memory and runs
   keeper_main; it has no context, so nothing in it may use FS. */
    .globl glue_keeper
glue_keeper:
    xor %edx, %edx
    xor %r10d, %r10d
    xor %r8d, %r8d
    mov $56, %eax
    syscall
    test %rax, %rax
    jz 1f
    ret
1:  call keeper_main
    ud2

    .globl engine_entry
engine_entry:
    xor %ebp, %ebp
    mov %rsp, %rdi
    and $-16, %rsp
    call engine_main
    ud2
    .section .note.GNU-stack,"",@progbits
