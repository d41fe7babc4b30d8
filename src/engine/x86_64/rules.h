/* The table of instruction shadow rules: how undefined bits go through an
   instruction. One row for each group: X(rule, lane, mnemonics...); lane is the
   width in bytes of a vector rule's lanes (0: does not matter). What is not
   listed takes DEFAULT: any undefined input makes every output undefined.

   Notation: a, b values; s, t their undefined bits. Exact rules after the
   operation's own carry reach: a sum lies between the sum of the smallest and
   the sum of the largest values that the defined bits allow. */
#ifndef TONDO_RULES_H
#define TONDO_RULES_H

#define SHADOW_RULES(X)                                                                       \
    X(NOTHING, 0, NOP, PAUSE, ENDBR64, ENDBR32, LFENCE, MFENCE, SFENCE, CLFLUSH, CLFLUSHOPT,  \
      CLWB, PREFETCHT0, PREFETCHT1, PREFETCHT2, PREFETCHNTA, PREFETCHW, PREFETCHWT1, RDTSC,   \
      RDTSCP, RDRAND, RDSEED, XGETBV, EMMS, FNINIT, FWAIT, LDMXCSR,     \
      VLDMXCSR, FLDCW, CLD, STD, CLC, STC, INCSSPQ, RDSSPQ, RDPID)                            \
    X(ZERO_UPPER, 0, VZEROUPPER, VZEROALL)                                                    \
    X(COPY, 0, MOV, MOVZX, MOVBE, MOVNTI, MOVD, MOVQ, VMOVD, VMOVQ, MOVUPS, MOVAPS, MOVUPD,   \
      MOVAPD, MOVDQU, MOVDQA, MOVNTPS, MOVNTPD, MOVNTDQ, MOVNTDQA, MOVNTQ, MOVQ2DQ, MOVDQ2Q, LDDQU, VMOVUPS, VMOVAPS,   \
      VMOVUPD, VMOVAPD, VMOVDQU, VMOVDQA, VMOVNTPS, VMOVNTPD, VMOVNTDQ, VMOVNTDQA, VLDDQU,    \
      VMOVDQU8, VMOVDQU16, VMOVDQU32, VMOVDQU64, VMOVDQA32, VMOVDQA64, KMOVB, KMOVW, KMOVD,   \
      KMOVQ, KNOTB, KNOTW, KNOTD, KNOTQ)                                                      \
    X(SIGN, 0, MOVSX, MOVSXD)                                                                 \
    X(EXTEND, 0, CBW, CWDE, CDQE)                                                             \
    X(SPREAD, 0, CWD, CDQ, CQO)                                                               \
    X(SWAP, 0, XCHG)                                                                          \
    X(PUSH, 0, PUSH)                                                                          \
    X(PUSH_FLAGS, 0, PUSHF, PUSHFQ) X(POP_FLAGS, 0, POPF, POPFQ)                              \
    X(POP, 0, POP)                                                                            \
    X(ENTER, 0, ENTER)                                                                        \
    X(LEAVE, 0, LEAVE)                                                                        \
    X(LEA, 0, LEA)                                                                            \
    X(ADD, 0, ADD) X(SUB, 0, SUB) X(CMP, 0, CMP) X(ADC, 0, ADC) X(SBB, 0, SBB)                \
    X(NEG, 0, NEG) X(INC, 0, INC) X(DEC, 0, DEC)                                              \
    X(AND, 0, AND) X(TEST, 0, TEST) X(OR, 0, OR) X(XOR, 0, XOR) X(NOT, 0, NOT)                \
    X(ANDN, 0, ANDN)                                                                          \
    X(SHL, 0, SHL) X(SHR, 0, SHR) X(SAR, 0, SAR) X(ROL, 0, ROL) X(ROR, 0, ROR)          \
    X(RCL, 0, RCL) X(RCR, 0, RCR)                                                             \
    X(SHLX, 0, SHLX) X(SHRX, 0, SHRX) X(SARX, 0, SARX) X(RORX, 0, RORX)                       \
    X(SHLD, 0, SHLD) X(SHRD, 0, SHRD)                                                         \
    X(MUL, 0, MUL, IMUL, MULX)                                                                \
    X(BSF, 0, BSF, TZCNT) X(BSR, 0, BSR, LZCNT) X(POPCNT, 0, POPCNT)                          \
    X(BSWAP, 0, BSWAP)                                                                        \
    X(BLSR, 0, BLSR) X(BLSI, 0, BLSI) X(BLSMSK, 0, BLSMSK)                                    \
    X(BEXTR, 0, BEXTR) X(BZHI, 0, BZHI) X(PEXT, 0, PEXT) X(PDEP, 0, PDEP)                     \
    X(BIT, 0, BT) X(BITSET, 0, BTS) X(BITCLEAR, 0, BTR) X(BITFLIP, 0, BTC)                    \
    X(SET, 0, SETO, SETNO, SETB, SETNB, SETZ, SETNZ, SETBE, SETNBE, SETS, SETNS, SETP,        \
      SETNP, SETL, SETNL, SETLE, SETNLE)                                                      \
    X(MOVE_IF, 0, CMOVO, CMOVNO, CMOVB, CMOVNB, CMOVZ, CMOVNZ, CMOVBE, CMOVNBE, CMOVS,        \
      CMOVNS, CMOVP, CMOVNP, CMOVL, CMOVNL, CMOVLE, CMOVNLE)                                  \
    X(CMPXCHG, 0, CMPXCHG) X(CMPXCHG_PAIR, 0, CMPXCHG8B, CMPXCHG16B) X(XADD, 0, XADD)          \
    X(STRING_MOVE, 0, MOVSB, MOVSW, MOVSQ, STOSB, STOSW, STOSD, STOSQ, LODSB, LODSW, LODSD,   \
      LODSQ)                                                                                  \
    X(STRING_COMPARE, 0, SCASB, SCASW, SCASD, SCASQ, CMPSB, CMPSW, CMPSQ)                     \
    X(SAME, 0, PSHUFD, PSHUFHW, PSHUFLW, SHUFPS, SHUFPD, PUNPCKLBW, PUNPCKLWD, PUNPCKLDQ,     \
      PUNPCKLQDQ, PUNPCKHBW, PUNPCKHWD, PUNPCKHDQ, PUNPCKHQDQ, UNPCKLPS, UNPCKLPD, UNPCKHPS,  \
      UNPCKHPD, MOVSS, MOVHPS, MOVLPS, MOVHPD, MOVLPD, MOVHLPS, MOVLHPS, MOVDDUP, MOVSLDUP,   \
      MOVSHDUP, PALIGNR, PSLLDQ, PSRLDQ, PINSRB, PINSRW, PINSRD, PINSRQ, PEXTRB, PEXTRW,      \
      PEXTRD, PEXTRQ, EXTRACTPS, INSERTPS, PMOVMSKB, MOVMSKPS, MOVMSKPD, PMOVZXBW, PMOVZXBD,  \
      PMOVZXBQ, PMOVZXWD, PMOVZXWQ, PMOVZXDQ, PMOVSXBW, PMOVSXBD, PMOVSXBQ, PMOVSXWD,         \
      PMOVSXWQ, PMOVSXDQ, BLENDPS, BLENDPD, PBLENDW, VPSHUFD, VPSHUFHW, VPSHUFLW, VSHUFPS,    \
      VSHUFPD, VPUNPCKLBW, VPUNPCKLWD, VPUNPCKLDQ, VPUNPCKLQDQ, VPUNPCKHBW, VPUNPCKHWD,       \
      VPUNPCKHDQ, VPUNPCKHQDQ, VUNPCKLPS, VUNPCKLPD, VUNPCKHPS, VUNPCKHPD, VMOVSS, VMOVSD,    \
      VMOVHPS, VMOVLPS, VMOVHPD, VMOVLPD, VMOVHLPS, VMOVLHPS, VMOVDDUP, VMOVSLDUP,            \
      VMOVSHDUP, VPALIGNR, VPSLLDQ, VPSRLDQ, VPINSRB, VPINSRW, VPINSRD, VPINSRQ, VPEXTRB,     \
      VPEXTRW, VPEXTRD, VPEXTRQ, VEXTRACTPS, VINSERTPS, VPMOVMSKB, VMOVMSKPS, VMOVMSKPD,      \
      VBLENDPS, VBLENDPD, VPBLENDW, VPBLENDD, VPERM2F128, VPERM2I128, VINSERTF128,            \
      VINSERTI128, VEXTRACTF128, VEXTRACTI128, VBROADCASTSS, VBROADCASTSD, VBROADCASTF128,    \
      VBROADCASTI128, VPBROADCASTB, VPBROADCASTW, VPBROADCASTD, VPBROADCASTQ, VALIGND,        \
      VALIGNQ, VSHUFF32X4, VSHUFF64X2, VSHUFI32X4, VSHUFI64X2, VEXTRACTF32X4, VEXTRACTF64X2,  \
      VEXTRACTI32X4, VEXTRACTI64X2, VEXTRACTF32X8, VEXTRACTF64X4, VEXTRACTI32X8,              \
      VEXTRACTI64X4, VINSERTF32X4, VINSERTF64X2, VINSERTI32X4, VINSERTI64X2, VINSERTF32X8,    \
      VINSERTF64X4, VINSERTI32X8, VINSERTI64X4, VBROADCASTF32X2, VBROADCASTF32X4,             \
      VBROADCASTF64X2, VBROADCASTF32X8, VBROADCASTF64X4, VBROADCASTI32X2, VBROADCASTI32X4,    \
      VBROADCASTI64X2, VBROADCASTI32X8, VBROADCASTI64X4, VPROLD, VPROLQ, VPRORD, VPRORQ)      \
    X(V_EXTEND, 1, VPMOVZXBW, VPMOVZXBD, VPMOVZXBQ, VPMOVSXBW, VPMOVSXBD, VPMOVSXBQ)          \
    X(V_EXTEND, 2, VPMOVZXWD, VPMOVZXWQ, VPMOVSXWD, VPMOVSXWQ)                                \
    X(V_EXTEND, 4, VPMOVZXDQ, VPMOVSXDQ)                                                      \
    X(V_SHUFFLE, 1, PSHUFB, VPSHUFB)                                                          \
    X(V_AND, 0, PAND, ANDPS, ANDPD, VPAND, VANDPS, VANDPD, VPANDD, VPANDQ, KANDB, KANDW,      \
      KANDD, KANDQ)                                                                           \
    X(V_ANDN, 0, PANDN, ANDNPS, ANDNPD, VPANDN, VANDNPS, VANDNPD, VPANDND, VPANDNQ, KANDNB,   \
      KANDNW, KANDND, KANDNQ)                                                                 \
    X(V_OR, 0, POR, ORPS, ORPD, VPOR, VORPS, VORPD, VPORD, VPORQ, KORB, KORW, KORD, KORQ)     \
    X(V_XOR, 0, PXOR, XORPS, XORPD, VPXOR, VXORPS, VXORPD, VPXORD, VPXORQ, KXORB, KXORW,      \
      KXORD, KXORQ, KXNORB, KXNORW, KXNORD, KXNORQ)                                           \
    X(V_ADD, 1, KADDB) X(V_ADD, 2, KADDW) X(V_ADD, 4, KADDD) X(V_ADD, 8, KADDQ)               \
    X(MASK_UNPACK, 0, KUNPCKBW, KUNPCKWD, KUNPCKDQ)                                           \
    X(MASK_OR_TEST, 0, KORTESTB, KORTESTW, KORTESTD, KORTESTQ)                                \
    X(V_RELATE, 1, VPCMPB, VPCMPUB) X(V_RELATE, 2, VPCMPW, VPCMPUW)                           \
    X(V_RELATE, 4, VPCMPD, VPCMPUD) X(V_RELATE, 8, VPCMPQ, VPCMPUQ)                           \
    X(V_COMMON, 1, VPTESTMB, VPTESTNMB) X(V_COMMON, 2, VPTESTMW, VPTESTNMW)                   \
    X(V_COMMON, 4, VPTESTMD, VPTESTNMD) X(V_COMMON, 8, VPTESTMQ, VPTESTNMQ)                   \
    X(V_SIGNS, 1, VPMOVB2M, VPMOVM2B) X(V_SIGNS, 2, VPMOVW2M, VPMOVM2W)                       \
    X(V_SIGNS, 4, VPMOVD2M, VPMOVM2D) X(V_SIGNS, 8, VPMOVQ2M, VPMOVM2Q)                       \
    X(V_TERNARY, 0, VPTERNLOGD, VPTERNLOGQ)                                                   \
    X(V_CHOOSE, 0, VPBLENDMB, VPBLENDMW, VPBLENDMD, VPBLENDMQ, VBLENDMPS, VBLENDMPD)          \
    X(V_TRUNCATE, 0, VPMOVQB, VPMOVQW, VPMOVQD, VPMOVDB, VPMOVDW, VPMOVWB)                    \
    X(V_RESIZE, 0, VPMOVSQB, VPMOVSQW, VPMOVSQD, VPMOVSDB, VPMOVSDW, VPMOVSWB, VPMOVUSQB,     \
      VPMOVUSQW, VPMOVUSQD, VPMOVUSDB, VPMOVUSDW, VPMOVUSWB, VCVTPS2UDQ, VCVTTPS2UDQ,         \
      VCVTPD2UDQ, VCVTTPD2UDQ, VCVTUDQ2PS, VCVTUDQ2PD, VCVTPS2QQ, VCVTTPS2QQ, VCVTPS2UQQ,     \
      VCVTTPS2UQQ, VCVTPD2QQ, VCVTTPD2QQ, VCVTPD2UQQ, VCVTTPD2UQQ, VCVTQQ2PS, VCVTUQQ2PS,     \
      VCVTQQ2PD, VCVTUQQ2PD, VCVTPH2PS, VCVTPS2PH)                                            \
    X(V_COMPRESS, 0, VPCOMPRESSB, VPCOMPRESSW, VPCOMPRESSD, VPCOMPRESSQ, VCOMPRESSPS,         \
      VCOMPRESSPD)                                                                            \
    X(V_EXPAND, 0, VPEXPANDB, VPEXPANDW, VPEXPANDD, VPEXPANDQ, VEXPANDPS, VEXPANDPD)          \
    X(V_PERMUTE_TWO, 1, VPERMI2B, VPERMT2B) X(V_PERMUTE_TWO, 2, VPERMI2W, VPERMT2W)           \
    X(V_PERMUTE_TWO, 4, VPERMI2D, VPERMT2D, VPERMI2PS, VPERMT2PS)                             \
    X(V_PERMUTE_TWO, 8, VPERMI2Q, VPERMT2Q, VPERMI2PD, VPERMT2PD)                             \
    X(V_PERMUTE_IN, 4, VPERMILPS) X(V_PERMUTE_IN, 8, VPERMILPD)                               \
    X(V_PERMUTE, 1, VPERMB) X(V_PERMUTE, 2, VPERMW) X(V_PERMUTE, 8, VPERMQ, VPERMPD)          \
    X(V_MIN, 8, VPMINSQ, VPMINUQ, VPMAXSQ, VPMAXUQ)                                           \
    X(V_MULTIPLY, 8, VPMULLQ)                                                                 \
    X(V_SHIFT, 1, KSHIFTLB, KSHIFTRB) X(V_SHIFT, 2, KSHIFTLW, KSHIFTRW)                       \
    X(V_SHIFT, 4, KSHIFTLD, KSHIFTRD) X(V_SHIFT, 8, KSHIFTLQ, KSHIFTRQ, VPSRAQ)               \
    X(V_SHIFT_EACH, 2, VPSLLVW, VPSRLVW, VPSRAVW) X(V_SHIFT_EACH, 4, VPROLVD, VPRORVD)        \
    X(V_SHIFT_EACH, 8, VPSRAVQ, VPROLVQ, VPRORVQ)                                             \
    X(V_LANES, 1, VPOPCNTB) X(V_LANES, 2, VPOPCNTW, VPSHLDW, VPSHRDW, VPSHLDVW, VPSHRDVW)     \
    X(V_LANES, 4, VPOPCNTD, VPLZCNTD, VPDPBUSD, VPDPBUSDS, VPDPWSSD, VPDPWSSDS, VPSHLDD,      \
      VPSHRDD, VPSHLDVD, VPSHRDVD, VRCP14PS, VRSQRT14PS, VRNDSCALEPS, VGETEXPPS, VGETMANTPS,  \
      VSCALEFPS, VRANGEPS, VREDUCEPS, VFIXUPIMMPS, VFPCLASSPS, VFMADDSUB132PS,                \
      VFMADDSUB213PS, VFMADDSUB231PS, VFMSUBADD132PS, VFMSUBADD213PS, VFMSUBADD231PS)         \
    X(V_LANES, 8, VPOPCNTQ, VPLZCNTQ, VPABSQ, VPMADD52LUQ, VPMADD52HUQ, VPSHLDQ, VPSHRDQ,     \
      VPSHLDVQ, VPSHRDVQ, VRCP14PD, VRSQRT14PD, VRNDSCALEPD, VGETEXPPD, VGETMANTPD,           \
      VSCALEFPD, VRANGEPD, VREDUCEPD, VFIXUPIMMPD, VFPCLASSPD, VFMADDSUB132PD,                \
      VFMADDSUB213PD, VFMADDSUB231PD, VFMSUBADD132PD, VFMSUBADD213PD, VFMSUBADD231PD)         \
    X(V_SCALAR, 4, VRCP14SS, VRSQRT14SS, VRNDSCALESS, VGETEXPSS, VGETMANTSS, VSCALEFSS,       \
      VRANGESS, VREDUCESS, VFIXUPIMMSS, VFPCLASSSS)                                           \
    X(V_SCALAR, 8, VRCP14SD, VRSQRT14SD, VRNDSCALESD, VGETEXPSD, VGETMANTSD, VSCALEFSD,       \
      VRANGESD, VREDUCESD, VFIXUPIMMSD, VFPCLASSSD)                                           \
    X(V_ONE, 4, VCVTUSI2SS) X(V_ONE, 8, VCVTUSI2SD)                                           \
    X(V_TO_INTEGER, 4, VCVTSS2USI, VCVTTSS2USI) X(V_TO_INTEGER, 8, VCVTSD2USI, VCVTTSD2USI)   \
    X(SCATTER, 4, VPSCATTERDD, VSCATTERDPS, VPSCATTERQD, VSCATTERQPS)                         \
    X(SCATTER, 8, VPSCATTERDQ, VSCATTERDPD, VPSCATTERQQ, VSCATTERQPD)                         \
    X(V_ADD, 1, PADDB, VPADDB) X(V_ADD, 2, PADDW, VPADDW) X(V_ADD, 4, PADDD, VPADDD)          \
    X(V_ADD, 8, PADDQ, VPADDQ)                                                                \
    X(V_SUB, 1, PSUBB, VPSUBB) X(V_SUB, 2, PSUBW, VPSUBW) X(V_SUB, 4, PSUBD, VPSUBD)          \
    X(V_SUB, 8, PSUBQ, VPSUBQ)                                                                \
    X(V_EQUAL, 1, PCMPEQB, VPCMPEQB) X(V_EQUAL, 2, PCMPEQW, VPCMPEQW)                         \
    X(V_EQUAL, 4, PCMPEQD, VPCMPEQD) X(V_EQUAL, 8, PCMPEQQ, VPCMPEQQ)                         \
    X(V_GREATER, 1, PCMPGTB, VPCMPGTB) X(V_GREATER, 2, PCMPGTW, VPCMPGTW)                     \
    X(V_GREATER, 4, PCMPGTD, VPCMPGTD) X(V_GREATER, 8, PCMPGTQ, VPCMPGTQ)                     \
    X(V_MIN, 1, PMINUB, VPMINUB, PMINSB, VPMINSB, PMAXUB, VPMAXUB, PMAXSB, VPMAXSB)           \
    X(V_MIN, 2, PMINUW, VPMINUW, PMINSW, VPMINSW, PMAXUW, VPMAXUW, PMAXSW, VPMAXSW)           \
    X(V_MIN, 4, PMINUD, VPMINUD, PMINSD, VPMINSD, PMAXUD, VPMAXUD, PMAXSD, VPMAXSD)           \
    X(V_LANES, 1, PADDSB, PADDUSB, PSUBSB, PSUBUSB, PAVGB, PABSB, VPADDSB, VPADDUSB,  \
      VPSUBSB, VPSUBUSB, VPAVGB, VPABSB, PSIGNB, VPSIGNB)                                     \
    X(V_LANES, 2, PADDSW, PADDUSW, PSUBSW, PSUBUSW, PAVGW, PABSW, PMULHW, PMULHUW, PMULHRSW,  \
      VPADDSW, VPADDUSW, VPSUBSW, VPSUBUSW, VPAVGW, VPABSW, VPMULHW, VPMULHUW,       \
      VPMULHRSW, PMADDUBSW, VPMADDUBSW, PSIGNW, VPSIGNW)                                      \
    X(V_MULTIPLY, 2, PMULLW, VPMULLW) X(V_MULTIPLY, 4, PMULLD, VPMULLD)                        \
    X(V_MULTIPLY, 8, PMULUDQ, VPMULUDQ)                                                       \
    X(V_LANES, 4, PABSD, PMADDWD, VPABSD, VPMADDWD, PSIGND, VPSIGND, ADDPS,  \
      SUBPS, MULPS, DIVPS, MINPS, MAXPS, SQRTPS, RCPPS, RSQRTPS, CMPPS, ROUNDPS, VADDPS,      \
      VSUBPS, VMULPS, VDIVPS, VMINPS, VMAXPS, VSQRTPS, VRCPPS, VRSQRTPS, VCMPPS, VROUNDPS,    \
      CVTDQ2PS, CVTPS2DQ, CVTTPS2DQ, VCVTDQ2PS, VCVTPS2DQ, VCVTTPS2DQ, ADDSUBPS, VADDSUBPS,   \
      VFMADD132PS, VFMADD213PS, VFMADD231PS, VFMSUB132PS, VFMSUB213PS, VFMSUB231PS,           \
      VFNMADD132PS, VFNMADD213PS, VFNMADD231PS, VFNMSUB132PS, VFNMSUB213PS, VFNMSUB231PS)     \
    X(V_LANES, 8, PMULDQ, PSADBW, VPMULDQ, VPSADBW, ADDPD, SUBPD, MULPD,   \
      DIVPD, MINPD, MAXPD, SQRTPD, CMPPD, ROUNDPD, VADDPD, VSUBPD, VMULPD, VDIVPD, VMINPD,    \
      VMAXPD, VSQRTPD, VCMPPD, VROUNDPD, ADDSUBPD, VADDSUBPD, VFMADD132PD, VFMADD213PD,       \
      VFMADD231PD, VFMSUB132PD, VFMSUB213PD, VFMSUB231PD, VFNMADD132PD, VFNMADD213PD,         \
      VFNMADD231PD, VFNMSUB132PD, VFNMSUB213PD, VFNMSUB231PD)                                 \
    X(V_SCALAR, 4, ADDSS, SUBSS, MULSS, DIVSS, MINSS, MAXSS, CMPSS, VADDSS, VSUBSS, VMULSS,   \
      VDIVSS, VMINSS, VMAXSS, VCMPSS, VFMADD132SS, VFMADD213SS, VFMADD231SS, VFMSUB132SS,     \
      VFMSUB213SS, VFMSUB231SS, VFNMADD132SS, VFNMADD213SS, VFNMADD231SS, VFNMSUB132SS,       \
      VFNMSUB213SS, VFNMSUB231SS)                                                             \
    X(V_SCALAR, 8, ADDSD, SUBSD, MULSD, DIVSD, MINSD, MAXSD, VADDSD, VSUBSD, VMULSD, VDIVSD,  \
      VMINSD, VMAXSD, VCMPSD, VFMADD132SD, VFMADD213SD, VFMADD231SD, VFMSUB132SD,             \
      VFMSUB213SD, VFMSUB231SD, VFNMADD132SD, VFNMADD213SD, VFNMADD231SD, VFNMSUB132SD,       \
      VFNMSUB213SD, VFNMSUB231SD)                                                             \
    X(V_ONE, 4, SQRTSS, RCPSS, RSQRTSS, ROUNDSS, VSQRTSS, VRCPSS, VRSQRTSS, VROUNDSS,         \
      CVTSI2SS, VCVTSI2SS, CVTSD2SS, VCVTSD2SS)                                               \
    X(V_ONE, 8, SQRTSD, ROUNDSD, VSQRTSD, VROUNDSD, CVTSI2SD, VCVTSI2SD, CVTSS2SD, VCVTSS2SD, \
      CVTPI2PS)                                                                               \
    X(V_TO_INTEGER, 4, CVTSS2SI, CVTTSS2SI, VCVTSS2SI, VCVTTSS2SI)                            \
    X(V_TO_INTEGER, 8, CVTSD2SI, CVTTSD2SI, VCVTSD2SI, VCVTTSD2SI)                            \
    X(V_COMPARE, 4, COMISS, UCOMISS, VCOMISS, VUCOMISS)                                       \
    X(V_COMPARE, 8, COMISD, UCOMISD, VCOMISD, VUCOMISD)                                       \
    X(V_WIDEN, 4, CVTPS2PD, CVTDQ2PD, VCVTPS2PD, VCVTDQ2PD)                                   \
    X(V_NARROW, 8, CVTPD2PS, CVTPD2DQ, CVTTPD2DQ, VCVTPD2PS, VCVTPD2DQ, VCVTTPD2DQ)           \
    X(V_PACK, 2, PACKSSWB, PACKUSWB, VPACKSSWB, VPACKUSWB)                                    \
    X(V_PACK, 4, PACKSSDW, PACKUSDW, VPACKSSDW, VPACKUSDW)                                    \
    X(V_PAIRS, 2, PHADDW, PHSUBW, VPHADDW, VPHSUBW, PHADDSW, PHSUBSW, VPHADDSW, VPHSUBSW)     \
    X(V_PAIRS, 4, PHADDD, PHSUBD, VPHADDD, VPHSUBD, HADDPS, HSUBPS, VHADDPS, VHSUBPS)         \
    X(V_PAIRS, 8, HADDPD, HSUBPD, VHADDPD, VHSUBPD)                                           \
    X(V_SHIFT, 2, PSLLW, PSRLW, PSRAW, VPSLLW, VPSRLW, VPSRAW)                                \
    X(V_SHIFT, 4, PSLLD, PSRLD, PSRAD, VPSLLD, VPSRLD, VPSRAD)                                \
    X(V_SHIFT, 8, PSLLQ, PSRLQ, VPSLLQ, VPSRLQ)                                               \
    X(V_SHIFT_EACH, 4, VPSLLVD, VPSRLVD, VPSRAVD)                                             \
    X(V_SHIFT_EACH, 8, VPSLLVQ, VPSRLVQ)                                                      \
    X(V_BLEND, 1, PBLENDVB, VPBLENDVB) X(V_BLEND, 4, BLENDVPS, VBLENDVPS)                     \
    X(V_BLEND, 8, BLENDVPD, VBLENDVPD)                                                        \
    X(V_TEST, 0, PTEST, VPTEST, KTESTB, KTESTW, KTESTD, KTESTQ)                               \
    X(V_TEST, 4, VTESTPS) X(V_TEST, 8, VTESTPD)                                               \
    X(V_PERMUTE, 4, VPERMD, VPERMPS)                                                          \
    X(MASKED, 4, VMASKMOVPS, VPMASKMOVD) X(MASKED, 8, VMASKMOVPD, VPMASKMOVQ)                 \
    X(MASKED, 1, MASKMOVDQU, VMASKMOVDQU, MASKMOVQ)                                           \
    X(SAVE, 0, FXSAVE, FXSAVE64, XSAVE, XSAVE64, XSAVEC, XSAVEC64, XSAVEOPT, XSAVEOPT64)      \
    X(RESTORE, 0, FXRSTOR, FXRSTOR64, XRSTOR, XRSTOR64)                                       \
    X(GATHER, 4, VPGATHERDD, VGATHERDPS, VPGATHERQD, VGATHERQPS)                              \
    X(GATHER, 8, VPGATHERDQ, VGATHERDPD, VPGATHERQQ, VGATHERQPD)

/* MOVSD and CMPSD are not listed: each name stands for a string instruction and a
   vector one, told apart in rule_of. */

enum shadow_rule {
    RULE_DEFAULT,
    RULE_NOTHING, RULE_COPY, RULE_SIGN, RULE_EXTEND, RULE_SPREAD, RULE_SWAP, RULE_PUSH, RULE_POP,
    RULE_PUSH_FLAGS, RULE_POP_FLAGS, RULE_ENTER, RULE_LEAVE, RULE_LEA,
    RULE_ADD, RULE_SUB, RULE_CMP, RULE_ADC, RULE_SBB, RULE_NEG, RULE_INC, RULE_DEC, RULE_AND,
    RULE_TEST, RULE_OR, RULE_XOR, RULE_NOT, RULE_ANDN, RULE_SHL, RULE_SHR, RULE_SAR, RULE_ROL,
    RULE_ROR, RULE_RCL, RULE_RCR, RULE_SHLX, RULE_SHRX, RULE_SARX, RULE_RORX, RULE_SHLD, RULE_SHRD, RULE_MUL,
    RULE_BSF, RULE_BSR, RULE_POPCNT, RULE_BSWAP, RULE_BLSR, RULE_BLSI, RULE_BLSMSK, RULE_BEXTR,
    RULE_BZHI, RULE_PEXT, RULE_PDEP, RULE_BIT, RULE_BITSET, RULE_BITCLEAR, RULE_BITFLIP, RULE_SET,
    RULE_MOVE_IF, RULE_CMPXCHG, RULE_CMPXCHG_PAIR, RULE_XADD, RULE_STRING_MOVE, RULE_STRING_COMPARE,
    RULE_SAME, RULE_V_SHUFFLE, RULE_V_AND, RULE_V_ANDN, RULE_V_OR, RULE_V_XOR, RULE_V_ADD,
    RULE_V_SUB, RULE_V_EQUAL, RULE_V_GREATER, RULE_V_MIN, RULE_V_MULTIPLY, RULE_V_LANES, RULE_V_SCALAR, RULE_V_ONE,
    RULE_V_TO_INTEGER, RULE_V_COMPARE, RULE_V_WIDEN, RULE_V_NARROW, RULE_V_PACK, RULE_V_PAIRS,
    RULE_V_SHIFT, RULE_V_SHIFT_EACH, RULE_V_BLEND, RULE_V_TEST, RULE_V_PERMUTE, RULE_MASKED,
    RULE_GATHER, RULE_SCATTER, RULE_SAVE, RULE_RESTORE, RULE_ZERO_UPPER, RULE_MASK_UNPACK,
    RULE_MASK_OR_TEST, RULE_V_RELATE, RULE_V_COMMON, RULE_V_SIGNS, RULE_V_TERNARY, RULE_V_CHOOSE,
    RULE_V_TRUNCATE, RULE_V_RESIZE, RULE_V_EXTEND, RULE_V_COMPRESS, RULE_V_EXPAND,
    RULE_V_PERMUTE_IN, RULE_V_PERMUTE_TWO,
    /* not of instructions: */
    RULE_BRANCH, /* a conditional branch: an undefined condition is a finding */
    RULE_TARGET, /* an indirect jump or call */
    RULE_ADDRESS, /* only the operand's address */
    RULE_TOUCH,  /* that, and whether it may be read */
    RULE_JOIN,   /* only where the parts of the target are from */
    RULE_STORED, /* only where stored bits are from: D is set */
    RULE_X87,
};

#endif
