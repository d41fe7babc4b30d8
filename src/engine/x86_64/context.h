/* Offsets inside the per-thread context that FS points to, shared by C, the
   assembly glue and the code the translator emits. Checked in context.c. */
#ifndef TONDO_CONTEXT_H
#define TONDO_CONTEXT_H

#define CTX_SELF 0x00
#define CTX_REASON 0x08
#define CTX_ARGUMENT 0x10
#define CTX_TARGET 0x18
#define CTX_SHADOW 0x20   /* top of the shadow call stack */
#define CTX_CANARY 0x28   /* constant: the decoder library's stack protector reads it */
#define CTX_ENGINE_SP 0x30
#define CTX_PENDING 0x38
#define CTX_FS_BASE 0x40  /* the guest's */
#define CTX_GS_BASE 0x48
#define RECOVER_CALL 1 /* value: resume at glue_call_fault */
#define CTX_RECOVER 0x50  /* where a fault inside a helper resumes, or 0 */
#define CTX_RECOVER_SP 0x58
#define CTX_GUEST_TARGET 0x60
#define CTX_CACHE_BASE 0x68 /* constant */
#define CTX_SPILL 0x80    /* 16 slots, by register number */
#define CTX_REGISTERS 0x100 /* 16, by register number */
#define CTX_FLAGS 0x180
#define CTX_PC 0x188
#define CTX_VECTOR 0x1000 /* XSAVE area */
#define CTX_LOOKUP_KEY 0x10000  /* 65536 negated guest addresses */
#define CTX_LOOKUP_HOST 0x90000 /* 65536 code-cache addresses */
#define CTX_SIZE 0x110000

#define RAX 0
#define RCX 1
#define RDX 2
#define RBX 3
#define RSP 4
#define RBP 5
#define RSI 6
#define RDI 7

/* Why translated code came out. */
#define EXIT_LINK 1    /* a direct branch that was not linked yet; argument: link */
#define EXIT_LOOKUP 2  /* an indirect branch to CTX_GUEST_TARGET */
#define EXIT_RETURN 3  /* a return that was not predicted */
#define EXIT_SYSCALL 4 /* argument: code-cache offset of the call site */
#define EXIT_REPLACED 5
#define EXIT_CHECK 6   /* shadow said no; argument: offset to resume at */
#define EXIT_EMULATE 7 /* instruction done in C; argument: offset of the site */
#define EXIT_PENDING 8
#define EXIT_START 9
#define EXIT_STRING 11 /* repeated move or store; CTX_GUEST_TARGET: how */
#define EXIT_STALE 10  /* entry of code that was dropped; argument: block */

#endif
