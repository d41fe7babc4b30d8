/* The doors between the engine's C code and translated code. All guest
   registers live in the processor inside the cache and in the context outside
   it. Vector registers stay where they are: engine C does not touch them. */
#include "context.h"

    .text
    .macro save_registers
    mov %rax, %fs:CTX_REGISTERS+0
    mov %rcx, %fs:CTX_REGISTERS+8
    mov %rdx, %fs:CTX_REGISTERS+16
    mov %rbx, %fs:CTX_REGISTERS+24
    mov %rsp, %fs:CTX_REGISTERS+32
    mov %rbp, %fs:CTX_REGISTERS+40
    mov %rsi, %fs:CTX_REGISTERS+48
    mov %rdi, %fs:CTX_REGISTERS+56
    mov %r8, %fs:CTX_REGISTERS+64
    mov %r9, %fs:CTX_REGISTERS+72
    mov %r10, %fs:CTX_REGISTERS+80
    mov %r11, %fs:CTX_REGISTERS+88
    mov %r12, %fs:CTX_REGISTERS+96
    mov %r13, %fs:CTX_REGISTERS+104
    mov %r14, %fs:CTX_REGISTERS+112
    mov %r15, %fs:CTX_REGISTERS+120
    mov %fs:CTX_ENGINE_SP, %rsp
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
    jmp glue_enter
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
    mov %fs:CTX_REGISTERS+48, %rsi
    mov %fs:CTX_REGISTERS+56, %rdi
    mov %fs:CTX_REGISTERS+64, %r8
    mov %fs:CTX_REGISTERS+72, %r9
    mov %fs:CTX_REGISTERS+80, %r10
    mov %fs:CTX_REGISTERS+88, %r11
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

/* A replaced function met a bad pointer: everything of the guest is in the
   context, so its C frames are simply left. */
    .globl glue_call_fault
glue_call_fault:
    mov %fs:CTX_ENGINE_SP, %rsp
    cld
    mov %fs:CTX_SELF, %rdi
    call dispatch_call_fault
    jmp glue_enter

    .globl glue_start
glue_start: /* first entry of a thread: rdi = context */
    mov CTX_ENGINE_SP(%rdi), %rsp
    call dispatch
    jmp glue_enter

/* long glue_syscall(struct context *c, long number, const long arguments[6])
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
    mov $-4, %rax /* -EINTR */
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
