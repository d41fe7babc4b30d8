/* Differential test of the shadow rules, run under tondo with its test door open.
   Random sequences of instructions work on a state in memory. Each runs many
   times with the undefined bits of its input set in all ways (or in many), then
   once more with these bits marked undefined. An output bit that varied must be
   undefined in the engine's eyes; where it never varied although all ways were
   tried, "undefined" is counted as excess.
   Then the undefined bytes are said to be from several places: an output byte must be said to
   be from one whose bits make it vary, where some place does so alone.
   bits SEQUENCES [SEED [LENGTH [NAME]]]; with BITS_WIDE in the environment the
   instructions are those of AVX-512, with vectors of 64 bytes and masks. */
#define _GNU_SOURCE
#include <pthread.h>
#include <stdbool.h>
#include <signal.h>
#include <stddef.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/time.h>
#include <unistd.h>

#define DOOR 0x746f6e646fL
enum { DOOR_GET = 1, DOOR_SET, DOOR_SET_KNOWN, DOOR_SET_PLACES, DOOR_GET_PLACES };

struct state {
    uint64_t general[8]; /* rax rbx rcx rdx rsi r8 r9 r10 */
    uint8_t memory[64];
    uint8_t vector[4][32];
    uint8_t set[8]; /* setb sete sets seto setp setl setle setbe */
    uint8_t top[4][32]; /* of the vectors */
    uint64_t mask[4];   /* k1 to k4 */
};
#define STATE_BYTES sizeof(struct state)
static size_t input_bytes = offsetof(struct state, set);

struct instruction {
    const uint8_t *start, *end;
    const char *text;
};
extern const struct instruction table_start[], table_end[], wide_table_start[], wide_table_end[];
extern const uint8_t begin_start[], begin_end[], finish_start[], finish_end[];
extern const uint8_t wide_begin_start[], wide_begin_end[], wide_finish_start[], wide_finish_end[];

__asm__(".pushsection .rodata.table,\"aw\"\n.globl table_start\ntable_start:\n.popsection");
#define I(text)                                                                              \
    __asm__(".pushsection .rodata.code,\"a\"\n91: " text "\n92:\n93: .asciz \"" text           \
            "\"\n.popsection\n.pushsection .rodata.table,\"aw\"\n.quad 91b,92b,93b\n.popsection");
#define M "64(%rdi)"
#define ALU(op)                                                                              \
    I(op "b %bl,%al") I(op "b %ah,%cl") I(op "w %bx,%ax") I(op "l %ebx,%eax")                 \
    I(op "q %rbx,%rax") I(op "l " M ",%ecx") I(op "q %rdx," M) I(op "l $0xff0,%esi")          \
    I(op "q $-2,%r8") I(op "b $1," M) I(op "q %r9,%r9") I(op "l $0,%r10d")
#define ONE(op) I(op "b %al") I(op "w %bx") I(op "l %ecx") I(op "q %rdx") I(op "l " M)
#define SHIFT(op)                                                                            \
    I(op "l $3,%eax") I(op "q $17,%rbx") I(op "w $5,%dx") I(op "b $1,%sil") I(op "l %cl,%eax") \
    I(op "q %cl,%r8") I(op "l $31," M) I(op "q $1,%r9")
#define BITS(op) I(op "l %ebx,%eax") I(op "q %rcx,%rdx") I(op "q " M ",%rsi")
#define BMI(op) I(op " %ecx,%ebx,%eax") I(op " %rdx,%rsi,%r8")
#define CONDITION(cc)                                                                        \
    I("set" cc " %al") I("set" cc " " M) I("cmov" cc " %ebx,%eax") I("cmov" cc " %rcx,%rdx")   \
    I("cmov" cc " " M ",%rsi")
#define SSE(op) I(op " %xmm1,%xmm1") I("v" op " %xmm2,%xmm2,%xmm2") I(op " %xmm1,%xmm0") I(op " " M ",%xmm2") I("v" op " %xmm2,%xmm1,%xmm3")      \
    I("v" op " %ymm1,%ymm0,%ymm2") I("v" op " " M ",%xmm1,%xmm3") I("v" op " " M ",%ymm0,%ymm2")
#define SSE2(op) I(op " %xmm2,%xmm2") I("v" op " %xmm3,%xmm3") I(op " %xmm1,%xmm0") I("v" op " %xmm2,%xmm3") I(op " " M ",%xmm1") I("v" op " " M ",%xmm3")
#define SSEI(op, n) I(op " $" #n ",%xmm2,%xmm2") I("v" op " $" #n ",%ymm3,%ymm3") I(op " $" #n ",%xmm1,%xmm0") I("v" op " $" #n ",%ymm1,%ymm2")

#ifndef NAMED
ALU("add") ALU("sub") ALU("and") ALU("or") ALU("xor") ALU("cmp") ALU("adc") ALU("sbb") ALU("mov")
I("testl %ebx,%eax") I("testq %rdx,%rdx") I("testb $4," M) I("testw %cx,%si")
I("testl $0x30,%eax") I("testb $0x81,%bl") I("testq $-64,%rdx") I("testw $0x4101," M)
I("testl $0x1010180," M) I("andb $0x5a,%cl") I("andw $0xff0,%dx") I("andl $-16,%eax")
I("andl $-16," M) I("andb $0xf3," M) I("andq $-256," M) I("orl $0x70,%ebx") I("orb $0x81,%al")
I("orb $6," M) I("orq $-4096,%rsi") I("xorw $0x55,%si") I("rolw $3,%ax") I("rorb $5,%cl")
I("sarb $2,%bl") I("sarq $40,%rcx") I("shll $31,%ecx") I("shrq $33,%rdx") I("shrw $9,%dx")
ONE("inc") ONE("dec") ONE("neg") ONE("not")
SHIFT("shl") SHIFT("shr") SHIFT("sar") SHIFT("rol") SHIFT("ror")
I("shldl $5,%ebx,%eax") I("shldq %cl,%rdx,%rsi") I("shrdq $9,%rbx,%r8") I("shrdl %cl,%eax,%edx")
BITS("popcnt") BITS("tzcnt") BITS("lzcnt")
I("bsfl %ebx,%eax") I("bsrq %rcx,%rdx") I("bsfq " M ",%rsi")
I("blsrq %rbx,%rax") I("blsil %ecx,%edx") I("blsmskq %rsi,%r8")
BMI("andn") BMI("shlx") BMI("shrx") BMI("sarx") BMI("bextr") BMI("bzhi") BMI("pext") BMI("pdep")
I("rorx $7,%rbx,%rax") I("mulx %rbx,%rax,%rcx")
I("imull %ebx,%eax") I("imulq $12,%rcx,%rdx") I("imulq " M ",%rsi") I("mulq %rbx") I("mull %ecx")
I("mulb %bl") I("imulw %bx") I("imulq $64,%r8,%r9")
I("movzbl %al,%ebx") I("movzwl %cx,%edx") I("movsbl %ah,%ecx") I("movswq %bx,%rsi")
I("movslq %edx,%r8") I("movzbl " M ",%eax") I("movsbq " M ",%rcx") I("movswl " M ",%edx")
I("movl %eax,%eax") I("movb %bl,%ah") I("movq %rax," M) I("movl " M ",%ebx") I("movw %cx," M)
I("movl $77,%edx") I("movb $3,%al") I("movbeq " M ",%r9") I("movbel %ecx," M)
I("cbtw") I("cwtl") I("cltq") I("cwtd") I("cltd") I("cqto")
I("bswapl %eax") I("bswapq %rbx") I("xchgl %eax,%ebx") I("xchgq %rcx," M) I("xchgb %al,%ah")
I("leal 5(%rax,%rbx,2),%ecx") I("leaq -8(%rdx,%rsi,8),%r8") I("leaq (%rax,%rax),%r9")
I("btl $5,%eax") I("btq %rcx,%rbx") I("btsl $7,%edx") I("btrq $40,%rsi") I("btcl %ecx,%eax")
I("cmpxchgl %ebx,%ecx") I("cmpxchgq %rdx," M) I("xaddl %eax,%ebx") I("lock xaddq %rcx," M)
CONDITION("b") CONDITION("e") CONDITION("s") CONDITION("o") CONDITION("p") CONDITION("l")
CONDITION("le") CONDITION("be") CONDITION("ne") CONDITION("g") CONDITION("ae") CONDITION("a")
I("pushq %rax; popq %rbx") I("pushq " M "; popq %rcx") I("pushq %rdx; popq " M)
I("pushq %rsi; movl (%rsp),%eax; leaq 8(%rsp),%rsp")
I("stc") I("clc")
I("xorl %eax,%eax") I("subq %rbx,%rbx") I("sbbl %ecx,%ecx")
SSE("pand") SSE("por") SSE("pxor") SSE("pandn") SSE("andps") SSE("xorpd")
SSE("paddb") SSE("paddw") SSE("paddd") SSE("paddq") SSE("psubb") SSE("psubw") SSE("psubd")
SSE("psubq") SSE("pcmpeqb") SSE("pcmpeqw") SSE("pcmpeqd") SSE("pcmpeqq") SSE("pcmpgtb")
SSE("pcmpgtw") SSE("pcmpgtd") SSE("pcmpgtq") SSE("pminub") SSE("pmaxub") SSE("pminsw")
SSE("pmaxsd") SSE("paddusb") SSE("psubsw") SSE("pavgb") SSE("pmullw") SSE("pmulhw")
SSE("pmaddwd") SSE("pmuludq") SSE("psadbw") SSE("pshufb") SSE("punpcklbw") SSE("punpckhwd")
SSE("punpckldq") SSE("punpckhqdq") SSE("unpcklps") SSE("packuswb") SSE("packsswb")
SSE("packssdw") SSE("phaddd") SSE("phaddw") SSE2("pabsb") SSE2("pabsd")
SSEI("pshufd", 0x1b) SSEI("pshuflw", 0x39) SSEI("pshufhw", 0xc6)
I("shufps $0x4e,%xmm1,%xmm1") I("vshufps $0x93,%ymm2,%ymm2,%ymm2") I("shufpd $1,%xmm3,%xmm3")          \
I("palignr $5,%xmm1,%xmm1") I("vpalignr $11,%ymm2,%ymm2,%ymm2") I("movhlps %xmm1,%xmm1")             \
I("movlhps %xmm2,%xmm2") I("movss %xmm1,%xmm1") I("movaps %xmm3,%xmm3") I("movq %xmm0,%xmm0")      \
I("movddup %xmm1,%xmm1") I("pmovzxbw %xmm1,%xmm1") I("vpbroadcastb %xmm0,%xmm0")                    \
I("vinserti128 $1,%xmm1,%ymm1,%ymm1") I("vextracti128 $1,%ymm3,%xmm3")                              \
I("pblendw $0xa5,%xmm1,%xmm1") I("vpmovsxbq %xmm2,%ymm2") I("addps %xmm1,%xmm1")                    \
I("mov %eax,%eax") I("movzbl %al,%eax") I("movsbq %cl,%rcx") I("movslq %edx,%rdx")                  \
I("movzwl %bx,%ebx") I("mov %ah,%al") I("mov %al,%ah") I("imul %rdx,%rdx") I("add %rcx,%rcx")       \
I("xchg %rax,%rax") I("xadd %ecx,%ecx") I("bswap %eax") I("lea (%rax,%rax,2),%rax")                 \
I("adc %ecx,%ecx") I("adc %r8,%r8") I("paddw %xmm2,%xmm2") I("vpaddd %ymm1,%ymm1,%ymm0")          \
I("pmaxub %xmm3,%xmm3") I("leal 3(%rbx,%rbx),%ecx")                                                \
I("shufps $0x4e,%xmm1,%xmm0") I("vshufps $0x93,%ymm2,%ymm1,%ymm0") I("shufpd $1,%xmm3,%xmm2")
I("palignr $5,%xmm1,%xmm0") I("vpalignr $11,%ymm1,%ymm2,%ymm3") I("pslldq $3,%xmm0")
I("psrldq $5,%xmm1") I("vpsrldq $1,%ymm0,%ymm1") I("psllw $3,%xmm0") I("psrad $7,%xmm1")
I("psrlq $13,%xmm2") I("vpslld $9,%ymm0,%ymm3") I("pslld %xmm1,%xmm0") I("vpsraw %xmm2,%ymm1,%ymm0")
I("vpsllvd %ymm1,%ymm0,%ymm2") I("vpsrlvq %xmm1,%xmm2,%xmm0") I("vpsravd %ymm3,%ymm2,%ymm1")
I("movd %eax,%xmm0") I("movq %rbx,%xmm1") I("movd %xmm2,%ecx") I("movq %xmm3,%rdx")
I("movq %xmm0,%xmm1") I("vmovd %eax,%xmm2") I("vmovq %xmm1,%rsi") I("movd " M ",%xmm0")
I("movq %xmm1," M) I("movaps %xmm0,%xmm1") I("vmovdqu %ymm1,%ymm2") I("movups " M ",%xmm3")
I("leaq 72(%rdi),%rsi; leaq 64(%rdi),%rdi; movsq; leaq -72(%rdi),%rdi; movl $7,%esi")
I("leaq 64(%rdi),%rsi; leaq 88(%rdi),%rdi; movsq; leaq -96(%rdi),%rdi; movl $7,%esi")
I("leaq 68(%rdi),%rsi; leaq 65(%rdi),%rdi; movsq; leaq -73(%rdi),%rdi; movl $7,%esi")
I("leaq 68(%rdi),%rsi; leaq 64(%rdi),%rdi; movsl; leaq -68(%rdi),%rdi; movl $7,%esi")
I("leaq 66(%rdi),%rsi; leaq 64(%rdi),%rdi; movsw; leaq -66(%rdi),%rdi; movl $7,%esi")
I("leaq 64(%rdi),%rsi; leaq 71(%rdi),%rdi; movsb; leaq -72(%rdi),%rdi; movl $7,%esi")
I("vmovups " M ",%ymm0") I("movups %xmm2," M) I("vmovdqu %ymm3," M) I("movss %xmm1,%xmm0")
I("movsd %xmm3,%xmm2") I("movss " M ",%xmm1") I("movsd " M ",%xmm0") I("movsd %xmm0," M)
I("vmovss %xmm1,%xmm2,%xmm3") I("movhlps %xmm1,%xmm0") I("movlhps %xmm2,%xmm3")
I("movhps " M ",%xmm0") I("movlpd " M ",%xmm1") I("movhps %xmm2," M) I("movddup %xmm0,%xmm1")
I("pinsrb $3,%eax,%xmm0") I("pinsrw $5,%ecx,%xmm1") I("pinsrd $1,%edx,%xmm2")
I("pinsrq $1,%rbx,%xmm3") I("pextrb $7,%xmm0,%eax") I("pextrw $2,%xmm1,%ecx")
I("pextrd $3,%xmm2,%edx") I("pextrq $1,%xmm3,%rsi") I("pextrd $2,%xmm0," M)
I("pmovmskb %xmm0,%eax") I("movmskps %xmm1,%ecx") I("movmskpd %xmm2,%edx") I("vpmovmskb %ymm3,%esi")
I("pmovzxbw %xmm1,%xmm0") I("pmovsxwd %xmm2,%xmm1") I("vpmovzxbd %xmm0,%ymm1")
I("vpmovsxbq " M ",%ymm2") I("pblendw $0xa5,%xmm1,%xmm0") I("vpblendd $0x36,%ymm1,%ymm2,%ymm3")
I("pblendvb %xmm0,%xmm1,%xmm2") I("vblendvps %ymm3,%ymm2,%ymm1,%ymm0")
I("vpermq $0x4e,%ymm0,%ymm1") I("vpermd %ymm1,%ymm2,%ymm3") I("vperm2i128 $0x21,%ymm0,%ymm1,%ymm2")
I("vinserti128 $1,%xmm1,%ymm0,%ymm2") I("vextracti128 $1,%ymm3,%xmm0")
I("vextracti128 $1,%ymm2," M) I("vpbroadcastb %xmm0,%ymm1") I("vpbroadcastd " M ",%ymm2")
I("vbroadcastss %xmm3,%xmm0") I("ptest %xmm1,%xmm0") I("vptest %ymm2,%ymm3")
I("addps %xmm1,%xmm0") I("mulpd %xmm2,%xmm3") I("vaddpd %ymm0,%ymm1,%ymm2") I("addss %xmm1,%xmm0")
I("mulsd %xmm2,%xmm1") I("vsubsd %xmm0,%xmm1,%xmm2") I("sqrtss %xmm1,%xmm0") I("maxps %xmm2,%xmm1")
I("cmpltps %xmm1,%xmm0") I("vcmpeqpd %ymm1,%ymm2,%ymm0") I("cmpltsd %xmm3,%xmm2")
I("ucomiss %xmm1,%xmm0") I("comisd %xmm2,%xmm3") I("cvtsi2sd %eax,%xmm0") I("cvtsi2ssq %rbx,%xmm1")
I("cvttsd2si %xmm0,%eax") I("cvttss2si %xmm1,%rcx") I("cvtss2sd %xmm0,%xmm1")
I("cvtsd2ss %xmm2,%xmm3") I("cvtdq2ps %xmm0,%xmm1") I("cvttps2dq %xmm2,%xmm3")
I("cvtps2pd %xmm1,%xmm2") I("cvtpd2ps %xmm0,%xmm3") I("haddps %xmm1,%xmm0")
I("vfmadd213sd %xmm1,%xmm2,%xmm3") I("vfmadd231ps %ymm0,%ymm1,%ymm2")
I("vpmaskmovd " M ",%ymm1,%ymm0") I("vmaskmovps %xmm2,%xmm1," M) I("vzeroupper")
#define MMX(op)                                                                              \
    I("movq " M ",%mm0; movq %rdx,%mm5; " op " %mm5,%mm0; movq %mm0," M "; emms")              \
    I("movq %rcx,%mm7; " op " " M ",%mm7; movq %mm7,%mm2; movq %mm2,%rbx; emms")
MMX("paddb") MMX("paddd") MMX("paddq") MMX("psubw") MMX("paddusw") MMX("pand") MMX("pandn")
MMX("por") MMX("pxor") MMX("pcmpeqb") MMX("pcmpgtw") MMX("pmullw") MMX("pmulhuw") MMX("pmaddwd")
MMX("pmuludq") MMX("pavgb") MMX("pminub") MMX("pmaxsw") MMX("psadbw") MMX("punpcklbw")
MMX("punpckhwd") MMX("punpckldq") MMX("packsswb") MMX("packuswb") MMX("packssdw") MMX("pshufb")
MMX("phaddw") MMX("phaddd") MMX("palignr $3,") MMX("pshufw $0x1b,") MMX("pabsb") MMX("psignw")
MMX("psllw") MMX("psrld") MMX("psraw") MMX("pmulhrsw") MMX("pmaddubsw")
I("movq %rax,%mm1; psrlq $13,%mm1; pinsrw $2,%ecx,%mm1; movq %mm1,%rax; emms")
I("movd %ebx,%mm3; punpcklbw %mm3,%mm3; pmovmskb %mm3,%edx; pextrw $1,%mm3,%eax; emms")
I("movdq2q %xmm1,%mm4; psrad $5,%mm4; movq2dq %mm4,%xmm0; emms")
#include "more_instructions.h"
#include "from_memory.h"
#include "chosen_instructions.h"
#endif

#define STATE_LOAD                                                                           \
    "movq (%rdi),%rax\nmovq 8(%rdi),%rbx\nmovq 16(%rdi),%rcx\nmovq 24(%rdi),%rdx\n"            \
    "movq 32(%rdi),%rsi\nmovq 40(%rdi),%r8\nmovq 48(%rdi),%r9\nmovq 56(%rdi),%r10\n"           \
    "vmovups 128(%rdi),%ymm0\nvmovups 160(%rdi),%ymm1\nvmovups 192(%rdi),%ymm2\n"              \
    "vmovups 224(%rdi),%ymm3\nmovq %r9,%r11\naddq %r10,%r11\nmovl $0,%r11d\n"
#define STATE_STORE                                                                          \
    "setb 256(%rdi)\nsete 257(%rdi)\nsets 258(%rdi)\nseto 259(%rdi)\nsetp 260(%rdi)\n"         \
    "setl 261(%rdi)\nsetle 262(%rdi)\nsetbe 263(%rdi)\n"                                       \
    "movq %rax,(%rdi)\nmovq %rbx,8(%rdi)\nmovq %rcx,16(%rdi)\nmovq %rdx,24(%rdi)\n"            \
    "movq %rsi,32(%rdi)\nmovq %r8,40(%rdi)\nmovq %r9,48(%rdi)\nmovq %r10,56(%rdi)\n"           \
    "vmovups %ymm0,128(%rdi)\nvmovups %ymm1,160(%rdi)\nvmovups %ymm2,192(%rdi)\n"              \
    "vmovups %ymm3,224(%rdi)\n"
__asm__(".pushsection .rodata.table,\"aw\"\n.globl table_end\ntable_end:\n.popsection\n"
        ".pushsection .rodata.code,\"a\"\n.globl begin_start,begin_end,finish_start,finish_end\n"
        "begin_start: pushq %rbx\n" STATE_LOAD "begin_end:\n"
        "finish_start: " STATE_STORE "popq %rbx\nvzeroupper\nretq\nfinish_end:\n.popsection");

/* --- AVX-512: the vectors are zmm0, zmm1, zmm18 and zmm3 --- */

__asm__(".pushsection .rodata.wide,\"aw\"\n.globl wide_table_start\nwide_table_start:\n.popsection");
#define W(text)                                                                              \
    __asm__(".pushsection .rodata.code,\"a\"\n91: " text "\n92:\n93: .asciz \"" text           \
            "\"\n.popsection\n.pushsection .rodata.wide,\"aw\"\n.quad 91b,92b,93b\n.popsection");
#define W3(op)                                                                               \
    W(op " %zmm1,%zmm0,%zmm18") W(op " %ymm1,%ymm18,%ymm3{%k1}")                               \
    W(op " " M ",%zmm18,%zmm0{%k2}{z}") W(op " %xmm18,%xmm3,%xmm1") W(op " %zmm3,%zmm3,%zmm3{%k3}")
#define WB(op, n) W3(op) W(op " " M "{1to" #n "},%zmm1,%zmm3{%k4}")
#define W2(op) W(op " %zmm1,%zmm18{%k1}{z}") W(op " " M ",%ymm3{%k2}") W(op " %xmm18,%xmm0")
#define W2I(op, i) W(op " $" #i ",%zmm1,%zmm18{%k1}") W(op " $" #i "," M ",%zmm3{%k2}{z}")
#define WK(op) W(op " %zmm1,%zmm18,%k1") W(op " %ymm3,%ymm0,%k2{%k1}") W(op " " M ",%zmm3,%k3{%k4}")
#define WKI(op, i) W(op " $" #i ",%zmm1,%zmm18,%k1") W(op " $" #i "," M ",%ymm0,%k2{%k3}")
#define MASKS(op) W(op "w %k1,%k2,%k3") W(op "q %k2,%k3,%k4") W(op "b %k3,%k1,%k1") W(op "d %k4,%k4,%k2")
#define NARROWS(op, n) W(op " %zmm1,%" #n "mm18{%k1}") W(op " %zmm18," M "{%k2}") W(op " %zmm3,%" #n "mm0")

W3("vpaddb") WB("vpaddd", 16) W3("vpsubw") WB("vpsubq", 8) WB("vpandd", 16) WB("vpandnq", 8)
WB("vpord", 16) WB("vpxorq", 8) WB("vpmulld", 16) WB("vpmullq", 8) WB("vpmuludq", 8) W3("vpminub")
WB("vpmaxsq", 8) WB("vpminud", 16) W3("vpaddusw") W3("vpavgb") W3("vpmaddwd") WB("vpdpbusd", 16)
W3("vpsllvw") WB("vpsravq", 8) WB("vpsrlvd", 16) WB("vprolvd", 16) WB("vprorvq", 8) W3("vpshufb")
WB("vaddps", 16) WB("vmulpd", 8) WB("vmaxps", 16) WB("vfmadd213ps", 16) WB("vfmadd231pd", 8)
W3("vpunpcklbw") WB("vpunpckhdq", 16) W3("vpackuswb") WB("vpackssdw", 16) W("vpsadbw %zmm1,%zmm3,%zmm0")
WB("vpblendmd", 16) W3("vpblendmb") WB("vblendmpd", 8) W3("vpermw") WB("vpermi2d", 16)
WB("vpermt2q", 8) W3("vpermi2w") WB("vpermt2ps", 16) W(
"vpermd %zmm1,%zmm18,%zmm3{%k1}") W("vpermq %zmm1,%zmm0,%zmm3") W("vpermpd $0x1b,%zmm1,%zmm18{%k2}")
W("vpermilps %zmm1,%zmm0,%zmm3{%k1}") W("vpermilpd %zmm18,%zmm1,%zmm0") W("vpermilps $0x39,%zmm1,%zmm3")
W("vpternlogd $0x96,%zmm1,%zmm0,%zmm18") W("vpternlogq $0xe8," M ",%zmm0,%zmm3{%k1}")
W("vpternlogd $0xca,%ymm1,%ymm18,%ymm3{%k2}{z}") W("vpternlogd $0xff,%zmm1,%zmm1,%zmm1")
W("valignd $3,%zmm1,%zmm0,%zmm18{%k1}") W("vshufi32x4 $0x4e,%zmm1,%zmm0,%zmm3") W2I("vprold", 7)
W2I("vpshufd", 0x1b) W2I("vpsrlw", 5) W2I("vpsraq", 9) W("vpslldq $5,%zmm1,%zmm3")
W2("vpabsb") W2("vpabsq") W2("vplzcntd") W2("vmovdqu8") W2("vmovdqu16") W2("vmovdqu32") W2("vmovdqu64")
W2("vmovups") W("vmovapd %zmm1,%zmm0") W2("vmovddup") W2("vcvtdq2ps") W2("vcvtps2udq")
W2("vcvttpd2qq") W2("vcvtudq2ps") W2("vsqrtps") W2("vrcp14pd") W2("vpexpandd") W2("vexpandpd")
W2("vgetexpps") W2("vpconflictd")
W("vpcompressd %zmm1,%zmm18{%k1}") W("vpcompressq %zmm18," M "{%k2}") W("vcompressps %ymm3,%ymm0{%k3}{z}")
W("vmovdqu8 %zmm18," M "{%k1}") W("vmovdqu32 %ymm1," M "{%k2}") W("vmovups %zmm3," M) W("vmovdqa64 %xmm18," M)
W("vpmovzxbd %xmm1,%zmm18{%k1}") W("vpmovsxwq " M ",%zmm3{%k2}{z}") W("vpmovzxdq %ymm18,%zmm0")
W("vpmovsxbw " M ",%zmm1")
NARROWS("vpmovdb", x) NARROWS("vpmovqw", x) NARROWS("vpmovwb", y) NARROWS("vpmovqd", y)
NARROWS("vpmovsdb", x) NARROWS("vpmovusqd", y)
W("vcvtps2pd %ymm1,%zmm18{%k1}") W("vcvtpd2ps %zmm18,%ymm0{%k2}") W("vcvtdq2pd " M ",%zmm3")
W("vcvtps2qq %ymm0,%zmm1") W("vcvtqq2ps %zmm18,%ymm3")
WK("vpcmpeqb") WK("vpcmpeqd") WK("vpcmpgtw") WK("vpcmpgtq") WK("vptestmb") WK("vptestnmd") WK("vptestmq")
WKI("vpcmpub", 1) WKI("vpcmpb", 2) WKI("vpcmpw", 5) WKI("vpcmpuw", 6) WKI("vpcmpd", 0) WKI("vpcmpud", 1)
WKI("vpcmpq", 6) WKI("vpcmpuq", 4) WKI("vpcmpd", 3) WKI("vcmpps", 1) WKI("vcmppd", 0) W("vfpclassps $0x18,%zmm1,%k1{%k2}")
W("vcmpss $1,%xmm1,%xmm18,%k1{%k2}") W("vcmpsd $2,%xmm3,%xmm0,%k3")
W("vaddss %xmm1,%xmm18,%xmm3{%k1}") W("vmulsd " M ",%xmm1,%xmm0{%k2}{z}") W("vmovss " M ",%xmm18{%k1}")
W("vmovsd %xmm1,%xmm0,%xmm3{%k2}") W("vmovss %xmm18," M "{%k3}") W("vsqrtsd %xmm1,%xmm18,%xmm0{%k1}")
W("vfmadd231ss %xmm1,%xmm3,%xmm18{%k4}") W("vcvtusi2sd %rax,%xmm1,%xmm18") W("vcvttsd2usi %xmm18,%ecx")
W("vpmovb2m %zmm1,%k1") W("vpmovm2w %k2,%zmm18") W("vpmovd2m %ymm18,%k3") W("vpmovm2q %k1,%zmm0")
MASKS("kand") MASKS("kandn") MASKS("kor") MASKS("kxor") MASKS("kxnor") MASKS("kadd")
W("kunpckbw %k1,%k2,%k3") W("kunpckwd %k2,%k3,%k1") W("kunpckdq %k3,%k4,%k2")
W("knotw %k1,%k2") W("knotq %k3,%k3") W("kshiftlw $3,%k1,%k2") W("kshiftrq $9,%k2,%k3") W("kshiftrb $2,%k4,%k1")
W("kmovw %k1,%eax") W("kmovq %rbx,%k2") W("kmovb " M ",%k3") W("kmovd %k4," M) W("kmovq %k1,%k4") W("kmovd %ecx,%k1")
W("kortestw %k1,%k2") W("kortestq %k3,%k3") W("kortestb %k2,%k4") W("ktestw %k1,%k3") W("ktestd %k2,%k2")
W("vpbroadcastd %eax,%zmm18{%k1}") W("vpbroadcastb %xmm1,%zmm0") W("vpbroadcastq " M ",%zmm3{%k2}{z}")
W("vbroadcasti32x4 " M ",%zmm1") W("vbroadcastf64x4 " M ",%zmm18{%k1}") W("vbroadcastss %xmm18,%ymm3")
W("vextracti64x4 $1,%zmm1,%ymm18{%k1}") W("vextracti32x4 $3,%zmm18," M) W("vextractf64x2 $2,%zmm3,%xmm0")
W("vinserti64x4 $1,%ymm1,%zmm18,%zmm3{%k2}") W("vinserti32x4 $2," M ",%zmm0,%zmm1") W("vzeroupper")
W("vpaddd %ymm1,%ymm0,%ymm3") W("paddd %xmm1,%xmm0") W("vmovdqu %ymm1,%ymm3") W("movaps %xmm0,%xmm3")
W("vmovdqu %ymm3," M) W("vpxord %zmm18,%zmm18,%zmm18") W("vpcmpeqb %zmm1,%zmm1,%k2")
W("movl %eax,%ebx") W("addq %rcx,%rdx")
#include "more_wide.h"

#define WIDE_LOAD                                                                            \
    "movq (%rdi),%rax\nmovq 8(%rdi),%rbx\nmovq 16(%rdi),%rcx\nmovq 24(%rdi),%rdx\n"            \
    "movq 32(%rdi),%rsi\nmovq 40(%rdi),%r8\nmovq 48(%rdi),%r9\nmovq 56(%rdi),%r10\n"           \
    "vmovups 128(%rdi),%ymm0\nvinserti64x4 $1,264(%rdi),%zmm0,%zmm0\n"                         \
    "vmovups 160(%rdi),%ymm1\nvinserti64x4 $1,296(%rdi),%zmm1,%zmm1\n"                         \
    "vmovups 192(%rdi),%ymm18\nvinserti64x4 $1,328(%rdi),%zmm18,%zmm18\n"                      \
    "vmovups 224(%rdi),%ymm3\nvinserti64x4 $1,360(%rdi),%zmm3,%zmm3\n"                         \
    "kmovq 392(%rdi),%k1\nkmovq 400(%rdi),%k2\nkmovq 408(%rdi),%k3\nkmovq 416(%rdi),%k4\n"      \
    "movq %r9,%r11\naddq %r10,%r11\nmovl $0,%r11d\n"
#define WIDE_STORE                                                                           \
    "kmovq %k1,392(%rdi)\nkmovq %k2,400(%rdi)\nkmovq %k3,408(%rdi)\nkmovq %k4,416(%rdi)\n"      \
    "vmovups %ymm18,192(%rdi)\n"                                                              \
    "vextracti64x4 $1,%zmm0,264(%rdi)\nvextracti64x4 $1,%zmm1,296(%rdi)\n"                     \
    "vextracti64x4 $1,%zmm18,328(%rdi)\nvextracti64x4 $1,%zmm3,360(%rdi)\n"
#define ORDINARY_STORE                                                                       \
    "setb 256(%rdi)\nsete 257(%rdi)\nsets 258(%rdi)\nseto 259(%rdi)\nsetp 260(%rdi)\n"         \
    "setl 261(%rdi)\nsetle 262(%rdi)\nsetbe 263(%rdi)\n"                                       \
    "movq %rax,(%rdi)\nmovq %rbx,8(%rdi)\nmovq %rcx,16(%rdi)\nmovq %rdx,24(%rdi)\n"            \
    "movq %rsi,32(%rdi)\nmovq %r8,40(%rdi)\nmovq %r9,48(%rdi)\nmovq %r10,56(%rdi)\n"           \
    "vmovups %ymm0,128(%rdi)\nvmovups %ymm1,160(%rdi)\nvmovups %ymm3,224(%rdi)\n"
__asm__(".pushsection .rodata.wide,\"aw\"\n.globl wide_table_end\nwide_table_end:\n.popsection\n"
        ".pushsection .rodata.code,\"a\"\n"
        ".globl wide_begin_start,wide_begin_end,wide_finish_start,wide_finish_end\n"
        "wide_begin_start: pushq %rbx\n" WIDE_LOAD "wide_begin_end:\n"
        "wide_finish_start: " WIDE_STORE ORDINARY_STORE
        "popq %rbx\nvzeroupper\nretq\nwide_finish_end:\n.popsection");

static uint64_t seed;
static uint64_t next_random(void) { /* xorshift64* (Vigna 2016) */
    seed ^= seed >> 12;
    seed ^= seed << 25;
    seed ^= seed >> 27;
    return seed * 0x2545f4914f6cdd1dULL;
}

static uint8_t *append(uint8_t *to, const uint8_t *start, const uint8_t *end) {
    memcpy(to, start, (size_t)(end - start));
    return to + (end - start);
}

/* Values that make rules interesting: small, all ones, few bits, anything. */
static uint64_t interesting(void) {
    uint64_t r = next_random();
    switch (next_random() % 6) {
    case 0: return r & 15;
    case 1: return ~0ULL;
    case 2: return 0;
    case 3: return 1ULL << (r & 63);
    case 4: return r & next_random() & next_random();
    default: return r;
    }
}

struct place {
    unsigned byte, bit;
};

static unsigned input_at(unsigned n);
static unsigned choose_bits(struct place *places, uint8_t *undefined, unsigned most) {
    memset(undefined, 0, STATE_BYTES);
    unsigned count = 1 + (unsigned)(next_random() % most);
    unsigned focus = (unsigned)(next_random() % input_bytes);
    for (unsigned k = 0; k < count; k++) {
        unsigned byte = next_random() & 1 ? focus : (unsigned)(next_random() % 12) * 8 +
                                                        (unsigned)(next_random() % 2);
        if (next_random() % 4 == 0)
            byte = (unsigned)(next_random() % input_bytes);
        byte = input_at(byte);
        places[k] = (struct place){byte, (unsigned)(next_random() & 7)};
        undefined[byte] |= (uint8_t)(1u << places[k].bit);
    }
    return count;
}

static const struct code {
    const struct instruction *first, *last;
    const uint8_t *begin, *begin_end, *finish, *finish_end;
} narrow = {table_start, table_end, begin_start, begin_end, finish_start, finish_end},
  wide = {wide_table_start, wide_table_end, wide_begin_start, wide_begin_end, wide_finish_start,
          wide_finish_end};

/* What flags leave behind is no input: it lies between the inputs. */
static unsigned input_at(unsigned n) {
    return n < offsetof(struct state, set) ? n : n + (unsigned)sizeof(((struct state *)0)->set);
}

static void flip(struct state *s, const struct place *places, unsigned count, uint64_t which) {
    uint8_t *p = (uint8_t *)s;
    for (unsigned k = 0; k < count; k++)
        if (which >> k & 1)
            p[places[k].byte] |= (uint8_t)(1u << places[k].bit);
        else
            p[places[k].byte] &= (uint8_t)~(1u << places[k].bit);
}

/* Which place each undefined byte is from: by bytes, words or registers. */
enum { PLACES = 3 };
static void choose_places(uint8_t *from) {
    static const unsigned pieces[] = {1, 2, 4, 4, 8, 16};
    unsigned piece = pieces[next_random() % 6];
    for (unsigned at = 0; at < STATE_BYTES; at++)
        from[at] = at % piece ? from[at - 1] : (uint8_t)(1 + next_random() % PLACES);
}

/* Bits of the outputs that vary with those of one place alone. */
static void vary_alone(void (*run)(struct state *), const struct state *base,
                       const struct place *places, unsigned count, const uint8_t *from,
                       uint8_t varies[PLACES + 1][STATE_BYTES]) {
    enum { WAYS = 24 };
    static struct state first, one;
    memset(varies, 0, (PLACES + 1) * STATE_BYTES);
    for (unsigned place = 1; place <= PLACES; place++)
        for (unsigned way = 0; way < WAYS; way++) {
            one = *base;
            uint64_t which = next_random();
            for (unsigned k = 0; k < count; k++)
                if (from[places[k].byte] == place)
                    flip(&one, &places[k], 1, which >> k);
            run(&one);
            if (!way)
                first = one;
            for (unsigned k = 0; k < STATE_BYTES; k++)
                varies[place][k] |= ((uint8_t *)&one)[k] ^ ((uint8_t *)&first)[k];
        }
}

/* How many bytes are said to be from a place that has no part in them; flags are all from one. */
static unsigned misplaced(const uint8_t *told, const uint8_t *said, const uint8_t *undefined,
                          uint8_t varies[PLACES + 1][STATE_BYTES], bool print) {
    unsigned wrong = 0;
    for (unsigned k = 0; k < STATE_BYTES; k++) {
        unsigned alone = 0;
        for (unsigned place = 1; place <= PLACES; place++)
            alone |= varies[place][k] ? 1u << place : 0;
        bool flag = k >= offsetof(struct state, set) && k < offsetof(struct state, top);
        if (!alone || flag || !said[k] || (told[k] <= PLACES && alone >> told[k] & 1))
            continue;
        wrong++;
        if (print)
            printf("    byte %u (undefined %02x) said to be from %u, is from one of %x\n", k,
                   undefined[k], told[k], alone);
    }
    return wrong;
}

/* BITS_TIMER: a signal every 150 microseconds and a second thread that copies padding. */
static volatile long ticks;
static void on_tick(int number, siginfo_t *info, void *context) {
    char room[64];
    (void)info, (void)context;
    memset(room, number, sizeof room);
    ticks += room[3];
}

static void *copy_padding(void *argument) {
    struct {
        char dock;
        long length;
    } from[20], to[20];
    for (;;) {
        for (int i = 0; i < 20; i++)
            from[i].dock = 1, from[i].length = i;
        for (int i = 0; i < 20; i++)
            to[i] = from[i];
        if (to[3].length == 5)
            ticks++;
    }
    return argument;
}

static void disturb(void) {
    struct sigaction action;
    memset(&action, 0, sizeof action);
    action.sa_sigaction = on_tick;
    action.sa_flags = SA_SIGINFO | SA_RESTART;
    sigaction(SIGALRM, &action, NULL);
    struct itimerval each = {{0, 150}, {0, 150}};
    setitimer(ITIMER_REAL, &each, NULL);
    pthread_t thread;
    pthread_create(&thread, NULL, copy_padding, NULL);
}

/* The instructions with the highest counts. */
static void print_most(const char *what, const char *unit, const uint64_t *of, const uint64_t *tested,
                       const struct instruction *table, size_t kinds, int lines) {
    uint64_t below = ~0ULL;
    while (lines > 0) {
        uint64_t most = 0;
        for (size_t k = 0; k < kinds; k++)
            if (of[k] > most && of[k] < below)
                most = of[k];
        if (!most)
            break;
        for (size_t k = 0; k < kinds && lines > 0; k++)
            if (of[k] == most) {
                lines--;
                printf("%s %llu %s in %llu runs: %s\n", what, (unsigned long long)most, unit,
                       (unsigned long long)tested[k], table[k].text);
            }
        below = most;
    }
}

static bool has_leaf_7(int bit) {
    unsigned a = 7, b, c = 0, d;
    __asm__("cpuid" : "+a"(a), "=b"(b), "+c"(c), "=d"(d));
    return b >> bit & 1;
}

/* Those beyond what all processors with AVX2 have. */
static bool runs_here(const char *text) {
    return (!strstr(text, "aes") || __builtin_cpu_supports("aes")) &&
           (!strstr(text, "pclmul") || __builtin_cpu_supports("pclmul")) &&
           (strncmp(text, "sha1", 4) || has_leaf_7(29)) && (strncmp(text, "sha2", 4) || has_leaf_7(29)) &&
           ((strncmp(text, "adcx", 4) && strncmp(text, "adox", 4)) || has_leaf_7(19));
}

int main(int argc, char **argv) {
    if (getenv("BITS_TIMER"))
        disturb();
    long sequences = argc > 1 ? atol(argv[1]) : 300;
    uint64_t first = argc > 2 ? strtoull(argv[2], NULL, 0) : 1;
    long longest = argc > 3 ? atol(argv[3]) : 4;
    const char *name = argc > 4 ? argv[4] : NULL;
    struct code c = narrow;
    if (getenv("BITS_WIDE")) {
        if (!__builtin_cpu_supports("avx512bw") || !__builtin_cpu_supports("avx512dq") ||
            !__builtin_cpu_supports("avx512vl") || !__builtin_cpu_supports("avx512cd") ||
            !__builtin_cpu_supports("avx512vnni")) {
            puts("this processor has not all of AVX-512 that is tested");
            return 0;
        }
        c = wide;
        input_bytes = STATE_BYTES - sizeof(((struct state *)0)->set);
    }
    const struct instruction *table = c.first;
    size_t kinds = (size_t)(c.last - c.first);
    size_t room = (size_t)sequences * 2048 + 4096;
    uint8_t *code = mmap(NULL, room, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    uint8_t **entries = calloc((size_t)sequences, sizeof *entries);
    size_t (*parts)[8] = calloc((size_t)sequences, sizeof *parts);
    static uint64_t excess_of[4096], tested_of[4096], misplaced_of[4096];
    uint64_t placed = 0, misplaced_bytes = 0;
    bool shows = getenv("BITS_PLACES");
    uint8_t *at = code;
    seed = first * 0x9e3779b97f4a7c15ULL + 1;
    for (long n = 0; n < sequences; n++) {
        long length = 1 + (long)(next_random() % (uint64_t)longest);
        entries[n] = at;
        at = append(at, c.begin, c.begin_end);
        for (long k = 0; k < length; k++) {
            size_t which;
            long tries = 0;
            do
                which = longest == 1 && !name && !tries++ ? (size_t)n % kinds : next_random() % kinds;
            while ((name && !strstr(table[which].text, name)) || !runs_here(table[which].text));
            parts[n][k] = which + 1;
            at = append(at, table[which].start, table[which].end);
        }
        at = append(at, c.finish, c.finish_end);
        at = (uint8_t *)(((uintptr_t)at + 15) & ~15UL);
    }
    mprotect(code, room, PROT_READ | PROT_EXEC);
    uint64_t missed = 0, excess = 0, checked = 0, undefined_bits = 0;
    for (long n = 0; n < sequences; n++) {
        void (*run)(struct state *) = (void (*)(struct state *))entries[n];
        for (int round = 0; round < 3; round++) {
            static struct state base, one, result, marked;
            static uint8_t undefined[STATE_BYTES], varies[STATE_BYTES], said[STATE_BYTES];
            static struct place places[64];
            unsigned count = choose_bits(places, undefined, round == 2 ? 40 : 8);
            for (unsigned k = 0; k < STATE_BYTES / 8; k++)
                ((uint64_t *)&base)[k] = interesting();
            memset(base.set, 0, sizeof base.set);
            memset(varies, 0, sizeof varies);
            result = base;
            flip(&result, places, count, next_random());
            base = result;
            run(&result);
            unsigned ways = count <= 8 ? 1u << count : 256;
            for (unsigned way = 0; way < ways; way++) {
                one = base;
                flip(&one, places, count, count <= 8 ? way : next_random());
                run(&one);
                for (unsigned k = 0; k < STATE_BYTES; k++)
                    varies[k] |= ((uint8_t *)&one)[k] ^ ((uint8_t *)&result)[k];
            }
            marked = base;
            syscall(DOOR, round & 1 ? DOOR_SET_KNOWN : DOOR_SET, &marked, STATE_BYTES, undefined);
            run(&marked);
            syscall(DOOR, DOOR_GET, &marked, STATE_BYTES, said);
            static const uint8_t nothing[STATE_BYTES];
            syscall(DOOR, DOOR_SET, &marked, STATE_BYTES, nothing);
            if (c.first == narrow.first) {
                static struct state mixed;
                static uint8_t from[STATE_BYTES], told[STATE_BYTES], also[STATE_BYTES];
                static uint8_t alone[PLACES + 1][STATE_BYTES];
                choose_places(from);
                vary_alone(run, &base, places, count, from, alone);
                mixed = base;
                syscall(DOOR, DOOR_SET_PLACES, &mixed, STATE_BYTES, undefined, from);
                run(&mixed);
                syscall(DOOR, DOOR_GET, &mixed, STATE_BYTES, also);
                syscall(DOOR, DOOR_GET_PLACES, &mixed, STATE_BYTES, told);
                syscall(DOOR, DOOR_SET, &mixed, STATE_BYTES, nothing);
                unsigned bytes = misplaced(told, also, undefined, alone, false);
                misplaced_bytes += bytes;
                for (unsigned k = 0; k < STATE_BYTES; k++)
                    placed += also[k] != 0;
                if (!parts[n][1])
                    misplaced_of[parts[n][0] - 1] += bytes;
                if (bytes && shows) {
                    printf("misplaced in sequence %ld, round %d:", n, round);
                    for (int k = 0; parts[n][k]; k++)
                        printf(" [%s]", table[parts[n][k] - 1].text);
                    puts("");
                    for (unsigned k = 0; k < STATE_BYTES; k++)
                        if (undefined[k])
                            printf("    byte %u: undefined %02x from %u\n", k, undefined[k], from[k]);
                    misplaced(told, also, undefined, alone, true);
                }
            }
            int wrong = memcmp(&marked, &result, sizeof marked) != 0;
            uint64_t more = 0;
            for (unsigned k = 0; k < STATE_BYTES; k++) {
                checked += 8;
                undefined_bits += (uint64_t)__builtin_popcount(said[k]);
                more += (uint64_t)__builtin_popcount(said[k] & ~varies[k]);
                if (varies[k] & ~said[k])
                    wrong |= 2;
            }
            if (count > 8)
                more = 0;
            excess += more;
            if (!parts[n][1]) {
                excess_of[parts[n][0] - 1] += more;
                tested_of[parts[n][0] - 1] += 1;
            }
            if (!wrong)
                continue;
            missed++;
            if (missed > 12)
                continue;
            printf("%s in sequence %ld, round %d (seed %llu):", wrong & 1 ? "other result" : "missed", n,
                   round, (unsigned long long)first);
            for (int k = 0; parts[n][k]; k++)
                printf(" [%s]", table[parts[n][k] - 1].text);
            puts("");
            for (unsigned k = 0; k < STATE_BYTES; k++)
                if (undefined[k] || (varies[k] & ~said[k]))
                    printf("    byte %u: base %02x undefined %02x result %02x varies %02x said %02x\n", k,
                           ((uint8_t *)&base)[k], undefined[k], ((uint8_t *)&result)[k], varies[k],
                           said[k]);
        }
    }
    if (longest == 1) {
        print_most("excess", "bits", excess_of, tested_of, table, kinds, 12);
        print_most("misplaced", "bytes", misplaced_of, tested_of, table, kinds, 40);
    }
    if (placed)
        printf("%llu undefined bytes, %llu of them said to be from elsewhere\n",
               (unsigned long long)placed, (unsigned long long)misplaced_bytes);
    printf("%ld sequences of %zu instructions: %llu bits, %llu of them undefined; %llu missed, "
           "excess %llu (%.2f %%)\n",
           sequences, kinds, (unsigned long long)checked, (unsigned long long)undefined_bits,
           (unsigned long long)missed, (unsigned long long)excess,
           undefined_bits ? 100.0 * (double)excess / (double)undefined_bits : 0.0);
    munmap(code, room);
    free(entries);
    free(parts);
    /* a few are: flags have one origin for all, and so have the halves of a vector now and then */
    return missed || misplaced_bytes * 100 > placed;
}
