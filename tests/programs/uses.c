/* One way to depend on an undefined value in each function, a line each. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <stdint.h>
#include <math.h>
#define APART __attribute__((noinline,noclone))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
volatile int sink; APART static void hit(void){sink++;}
APART static void f1(void){ long double x; hide(&x); if (x > 1.0L) hit(); } // expect: uninitialized-value
APART static void f2(void){ double d; hide(&d); if (d > 1.0) hit(); } // expect: uninitialized-value
APART static void f3(void){ float a[16]; for(int i=0;i<15;i++) a[i]=i; hide(a); float s=0; for(int i=0;i<16;i++) s+=a[i]; if (s>3) hit(); } // expect: uninitialized-value
APART static void f4(void){ int a[64]; for(int i=0;i<63;i++) a[i]=i; hide(a); int s=0; for(int i=0;i<64;i++) s+=a[i]; if (s>3) hit(); } // expect: uninitialized-value
APART static void f5(void){ char b[32]; hide(b); b[0]='x'; printf("%s\n", b); } // expect: uninitialized-value
APART static void f6(void){ int n; hide(&n); char *p = malloc(n); free(p); } // expect: uninitialized-value
APART static void f7(void){ void (*fn)(void); hide(&fn); if (sink > 100000) fn(); }
APART static void f8(void){ struct { int a, b; } s; s.a = 1; hide(&s); if (s.a + s.b > 4) hit(); } // expect: uninitialized-value
APART static void f9(void){ unsigned char m[8]; memset(m,0,7); hide(m); if (m[7] & 0x10) hit(); } // expect: uninitialized-value
APART static int g10(int a, int b, int c, int d, int e, int f, int g){ return a+b+c+d+e+f+g; }
APART static void f10(void){ int u; hide(&u); if (g10(1,2,3,4,5,6,u) == 7) hit(); } // expect: uninitialized-value
APART static void f11(void){ int *p = malloc(16), *q = malloc(16); memcpy(q, p, 16); if (q[2]) hit(); free(p); free(q); } // expect: uninitialized-value
APART static void f12(void){ uint64_t x; hide(&x); x >>= 60; if (x == 3) hit(); } // expect: uninitialized-value
APART static void f13(void){ int x; hide(&x); int y = x * 0; if (y == 0) hit(); }
APART static void f14(void){ int a[10]; int i; hide(&i); hide(a); a[i & 7] = 3; } // expect: uninitialized-value
APART static void f15(void){ char *s; hide(&s); if (strlen(s ? "a" : "b") == 1) hit(); }
APART static void f16(void){ int x; hide(&x); printf("%d\n", x); } // expect: uninitialized-value
APART static void f17(void){ int x; hide(&x); x &= 1; x |= 2; if (x & 2) hit(); if (x & 1) hit(); } // expect: uninitialized-value
APART static void f18(void){ char a[20], b[20]; memset(a,1,19); memset(b,1,20); hide(a); if (memcmp(a,b,20)) hit(); } // expect: uninitialized-value
APART static void f19(void){ int64_t x; hide(&x); if (x < 0) hit(); } // expect: uninitialized-value
APART static void f20(void){ struct { unsigned a:7, b:9; } s; hide(&s); s.a=5; if (s.a==5) hit(); if (s.b==5) hit(); } // expect: uninitialized-value
APART static void f21(void){ int *p = calloc(4,4); p = realloc(p, 64); if (p[3]==0) hit(); if (p[12]) hit(); free(p); } // expect: uninitialized-value
APART static void f22(void){ double x; hide(&x); if (isnan(sqrt(x))) hit(); } // expect: uninitialized-value
APART static void f23(void){ char *p = malloc(10); p[9]=0; hide(p); if (p[strlen(p+9)] == 'a') hit(); free(p); } // expect: uninitialized-value
APART static void f24(void){ int t[4]={1,2,3,4}; int k; hide(&k); t[0] = k; hide(t); int m=t[0]; for(int i=1;i<4;i++) if (t[i]>m) m=t[i]; if(m==9) hit(); } // expect: uninitialized-value
int main(void){ f1();f2();f3();f4();f5();f6();f7();f8();f9();f10();f11();f12();f13();f14();f16();f17();f18();f19();f20();f21();f22();f23();f24(); return 0; }

