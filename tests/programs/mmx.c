/* MMX registers: which bytes of a result are undefined where one of the input is. */
#include <stdlib.h>

#define APART __attribute__((noinline))

static volatile int sink;
static unsigned char o[8];

/* The bytes of the mask. */
static APART void defined(unsigned mask) {
    for (int i = 0; i < 8; i++)
        if (mask >> i & 1 && *(volatile unsigned char *)&o[i] > 99)
            sink++;
}

#define RUN(what, u)                                                                          \
    __asm__ volatile("movq (%1), %%mm0\n movq 16(%1), %%mm1\n" what                           \
                     "\n movq %%mm0, (%0)\n emms"                                              \
                     :                                                                         \
                     : "r"(o), "r"(u)                                                          \
                     : "memory", "mm0", "mm1", "eax")
#define OPERATION(name, mask)                                                                 \
    RUN(name " %%mm1, %%mm0", u);                                                              \
    defined(mask);                                                                            \
    RUN(name " 16(%1), %%mm0", u);                                                             \
    defined(mask)

int main(void) {
    unsigned char *u = malloc(32); /* byte 7 of the first is never set */
    for (int i = 0; i < 7; i++)
        u[i] = (unsigned char)(i * 30);
    for (int i = 16; i < 24; i++)
        u[i] = (unsigned char)(i * 9);
    OPERATION("pavgb", 0x7f);
    OPERATION("psubusb", 0x7f);
    OPERATION("paddb", 0x7f);
    OPERATION("pcmpgtb", 0x7f);
    OPERATION("pmaxub", 0x7f);
    OPERATION("pxor", 0x7f);
    OPERATION("pand", 0x7f);
    OPERATION("pandn", 0x7f);
    OPERATION("por", 0x7f);
    OPERATION("paddw", 0x3f);
    OPERATION("pmullw", 0x3f);
    OPERATION("pmaddwd", 0x0f);
    OPERATION("psubd", 0x0f);
    OPERATION("punpcklbw", 0xff);
    OPERATION("punpckhbw", 0xbf);
    OPERATION("punpckhwd", 0xcf);
    OPERATION("punpckldq", 0xff);
    OPERATION("punpckhdq", 0xf7);
    OPERATION("packuswb", 0xf7);
    OPERATION("packssdw", 0xf3);
    OPERATION("phaddw", 0xf3);
    OPERATION("pshufb", 0x3f);
    OPERATION("palignr $3,", 0x7f | 0x80);
    RUN("psrlq $16, %%mm0", u);
    defined(0xdf);
    RUN("psllq $8, %%mm0", u);
    defined(0xff);
    RUN("psllw $8, %%mm0", u);
    defined(0xff);
    RUN("psrad $24, %%mm0", u);
    defined(0x0f);
    RUN("pshufw $0x24, %%mm0, %%mm0", u);
    defined(0xff);
    RUN("pinsrw $3, %k1, %%mm0", u);
    defined(0xff);
    RUN("pextrw $2, %%mm0, %%eax\n movd %%eax, %%mm0", u);
    defined(0xff);
    RUN("pxor %%mm0, %%mm0", u);
    defined(0xff);
    RUN("pavgb %%mm1, %%mm0", u);
    if (o[7] > 99) // expect: uninitialized-value
        sink++;
    RUN("punpckhbw %%mm1, %%mm0", u);
    if (o[6] > 99) // expect: uninitialized-value
        sink++;
    RUN("pmovmskb %%mm0, %%eax\n movd %%eax, %%mm0", u);
    if ((o[0] & 0x3f) == 3)
        sink++;
    if ((o[0] & 0x80) == 0) // expect: uninitialized-value
        sink++;
    free(u);
}
