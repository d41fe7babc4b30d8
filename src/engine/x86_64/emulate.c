/* Instructions done in C, operand addresses, and what a faulting instruction
   tried to do. All of it off the hot path. */
#include "cache.h"
#include "decode.h"
#include "translate.h"

static uint64_t reg_value(struct context *c, int reg) { return reg < 0 ? 0 : c->registers[reg]; }

static gaddr effective(struct context *c, const struct memory *m) {
    gaddr a = (uint64_t)m->displacement;
    if (!m->absolute)
        a += reg_value(c, m->base) + reg_value(c, m->index) * (uint64_t)m->scale;
    if (m->address32)
        a = (uint32_t)a;
    if (m->segment == 'f')
        a += c->fs_base;
    else if (m->segment == 'g')
        a += c->gs_base;
    return a;
}

/* The decoder library uses vector registers, which hold the guest's values: they are
   kept here, whoever saved them elsewhere. x87, SSE, AVX and AVX-512 state. */
#define VECTOR_PARTS 0xe7
#define VECTOR_AREA 2816

void decode_here(struct instruction *i, gaddr pc) {
    struct mapping m, next;
    uint64_t n = memory_lookup(pc, &m) ? m.end - pc : 15;
    if (n < 15 && memory_lookup(m.end, &next))
        n = 15;
    _Alignas(64) char area[VECTOR_AREA];
    fill_bytes(area + 512, 0, 64); /* its header */
    __asm__ volatile("xsave64 %0" : "+m"(area) : "a"(VECTOR_PARTS), "d"(0) : "memory");
    decode(i, pc, n < 15 ? n : 15);
    __asm__ volatile("xrstor64 %0" : : "m"(area), "a"(VECTOR_PARTS), "d"(0) : "memory");
}

static bool is_compare(const struct instruction *i) {
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_SCASB: case ZYDIS_MNEMONIC_SCASW: case ZYDIS_MNEMONIC_SCASD:
    case ZYDIS_MNEMONIC_SCASQ: case ZYDIS_MNEMONIC_CMPSB: case ZYDIS_MNEMONIC_CMPSW:
    case ZYDIS_MNEMONIC_CMPSD: case ZYDIS_MNEMONIC_CMPSQ:
        return true;
    default:
        return false;
    }
}

/* Bytes that a repeated scan or comparison will look at. */
static uint64_t repeat_count(struct context *c, const struct instruction *i, uint64_t width,
                             int64_t step) {
    uint64_t count = c->registers[RCX];
    bool scan = i->z.mnemonic == ZYDIS_MNEMONIC_SCASB || i->z.mnemonic == ZYDIS_MNEMONIC_SCASW ||
                i->z.mnemonic == ZYDIS_MNEMONIC_SCASD || i->z.mnemonic == ZYDIS_MNEMONIC_SCASQ;
    bool compare = i->z.mnemonic == ZYDIS_MNEMONIC_CMPSB ||
                   i->z.mnemonic == ZYDIS_MNEMONIC_CMPSW ||
                   (i->z.mnemonic == ZYDIS_MNEMONIC_CMPSD && is_string_instruction(i)) ||
                   i->z.mnemonic == ZYDIS_MNEMONIC_CMPSQ;
    if (!scan && !compare)
        return count;
    bool until_equal = i->z.attributes & ZYDIS_ATTRIB_HAS_REPNE;
    gaddr a = c->registers[RDI], b = c->registers[RSI];
    for (uint64_t n = 0; n < count; n++) {
        uint64_t x = 0, y = c->registers[RAX];
        if (a + width > GUEST_END || shadow_first_undefined(a, width))
            return n + 1;
        copy_bytes(&x, guest(a), width);
        if (compare) {
            if (b + width > GUEST_END || shadow_first_undefined(b, width))
                return n + 1;
            y = 0;
            copy_bytes(&y, guest(b), width);
        }
        if (width < 8)
            y &= (1ULL << (8 * width)) - 1;
        if ((x == y) == until_equal)
            return n + 1;
        a += (uint64_t)step;
        b += (uint64_t)step;
    }
    return count;
}

static void check_repeated(struct context *c, const struct instruction *i) {
    uint64_t count = c->registers[RCX];
    if (!count)
        return;
    for (int k = 0; k < i->memory_count; k++) {
        const struct memory *m = &i->memory[k];
        if (m->segment || !m->size)
            continue;
        int64_t step = c->flags & ZYDIS_CPUFLAG_DF ? -(int64_t)m->size : (int64_t)m->size;
        uint64_t n = repeat_count(c, i, m->size, step);
        gaddr start = effective(c, m);
        if (n > GUEST_END / m->size)
            n = GUEST_END / m->size;
        if (step < 0)
            start -= (n - 1) * m->size;
        bool fine = check_range(c, i->pc, start, n * m->size, m->write, NULL);
        if (m->write && !m->read)
            shadow_define(c, start, n * m->size);
        else if (fine && is_compare(i))
            check_defined(c, i->pc, start, n * m->size, "decides how a repeated comparison ends",
                          NULL);
    }
}

static void check_count(struct context *c, gaddr pc, int reg, const char *what) {
    uint64_t *u = dirty_words(c);
    if (!u[reg])
        return;
    finding_undefined(c, pc, dirty_origin(c, reg), what, 0, 0, NULL);
    u[reg] = 0;
}

/* An operand by the frame's own registers in the red zone: then it is the running
   function's, which was entered by a jump if calls were seen since (a tail call, or the
   loader's binding of the call). */
static void own_red_zone(struct context *c, const struct memory *m, gaddr address) {
    gaddr sp = c->registers[RSP];
    if (address < sp - 128 || address >= sp || address < c->stack_low || sp > c->stack_high)
        return;
    if (m->base == RSP || (m->base == RBP && c->registers[RBP] >= sp && c->registers[RBP] < c->stack_high))
        c->shadow->stack_pointer = 0;
}


enum checked check_instruction(struct context *c, gaddr pc, bool trusted) {
    struct instruction i;
    bool undefined = false, told = false;
    decode_here(&i, pc);
    if (!i.valid)
        return CHECKED_FINE;
    if (recover_enter(c))
        return CHECKED_FINE; /* the instruction itself will fault */
    if (is_string_instruction(&i) && i.repeated) {
        if (c->dirty)
            check_count(c, pc, RCX, "is the count of a repeated instruction");
        if (c->dirty)
            check_count(c, pc, RDI, "is the address of a read");
        check_repeated(c, &i);
        c->recover = 0;
        return CHECKED_FINE;
    }
    for (int n = 0; n < 2 * i.memory_count; n++) {
        /* loads first: what is stored may lie over what is loaded, and is left to the
           dirty version where that is undefined */
        struct memory m = i.memory[n % i.memory_count];
        bool stores = n >= i.memory_count;
        if (m.read == stores || (stores && (undefined || !m.write)) || m.vector_index)
            continue;
        gaddr a = effective(c, &m);
        if (!m.encoded && i.z.mnemonic == ZYDIS_MNEMONIC_PUSH)
            continue;
        if (!m.encoded && i.z.mnemonic == ZYDIS_MNEMONIC_CALL)
            continue;
        if (m.size == 0 && i.z.meta.category == ZYDIS_CATEGORY_XSAVE)
            m.size = 512;
        own_red_zone(c, &m, a);
        if (!m.read) {
            if (check_range(c, pc, a, m.size, true, NULL))
                stack_written(c, a);
            else
                told = true;
            shadow_define(c, a, m.size);
        } else if (check_range(c, pc, a, m.size, false, NULL) && a < GUEST_END) {
            gaddr slot = touch_return_slot(c, a, m.size, false);
            if (slot && trusted)
                shadow_fill(slot, 8, 0);
            if (!slot && shadow_first_undefined(a, m.size))
                undefined = true;
        }
    }
    c->recover = 0;
    return undefined ? CHECKED_UNDEFINED : told ? CHECKED_TOLD : CHECKED_FINE;
}

/* As `rep movs` does, element after element: where the target lies in what is still to be read,
   what was written there is read again. */
static void move_elements(struct context *c, gaddr to, gaddr from, uint64_t size, uint64_t width,
                          bool backwards) {
    uint64_t apart = backwards ? from - to : to - from;
    if (apart >= size || !apart) {
        shadow_move(c, to, from, size);
        return;
    }
    uint64_t piece = apart < width ? width : apart - apart % width;
    for (uint64_t done = 0; done < size; done += piece) {
        if (piece > size - done)
            piece = size - done;
        uint64_t at = backwards ? size - done - piece : done;
        shadow_move(c, to + at, from + at, piece);
    }
}

/* As `rep stos` does with undefined bits of RAX. */
static void store_elements(struct context *c, gaddr to, uint64_t size, uint64_t width) {
    const uint8_t *bits = (const uint8_t *)&dirty_words(c)[RAX];
    uint32_t origin = dirty_origin(c, RAX);
    for (uint64_t at = 0; at < size; at += width)
        copy_bytes(shadow_of(to + at), bits, width);
    origin_set(c, to, size, origin_keep(c, origin));
}

void check_string(struct context *c, uint32_t how) {
    uint64_t count = c->registers[RCX], width = how & STRING_WIDTH, value = 0;
    if (c->dirty) {
        check_count(c, c->pc, RCX, "is the count of a repeated instruction");
        check_count(c, c->pc, RDI, "is the address of a write");
        if (how & STRING_READS)
            check_count(c, c->pc, RSI, "is the address of a read");
        else
            value = dirty_words(c)[RAX] & (width < 8 ? (1ULL << 8 * width) - 1 : ~0ULL);
    }
    if (!count || count > GUEST_END / 8)
        return;
    uint64_t size = count * width;
    uint64_t back = c->flags & ZYDIS_CPUFLAG_DF ? size - width : 0;
    gaddr to = c->registers[RDI] - back, from = c->registers[RSI] - back;
    if (!value && !c->dirty && string_quick(c, to, from, size, how & STRING_READS))
        return;
    if (recover_enter(c))
        return; /* the instruction itself will fault */
    if (how & STRING_READS)
        check_range(c, c->pc, from, size, false, NULL);
    bool fine = check_range(c, c->pc, to, size, true, NULL);
    if (to < GUEST_END && size <= GUEST_END - to) {
        stack_written(c, to);
        if ((how & STRING_READS) && fine && from < GUEST_END && size <= GUEST_END - from)
            move_elements(c, to, from, size, width, back != 0);
        else
            shadow_define(c, to, size);
        if (value && fine)
            store_elements(c, to, size, width);
    }
    c->recover = 0;
}

/* A load whose value is compared byte by byte with others, or that stands among
   the constants of a search by words. */
bool looks_like_scan(gaddr pc) {
    struct instruction i;
    struct context *c = current();
    for (int r = 0; r < 16; r++) {
        uint64_t v = c->registers[r];
        if (v == 0x8080808080808080ULL || v == 0x0101010101010101ULL ||
            v == 0xfefefefefefefeffULL || v == 0x7f7f7f7f7f7f7f7fULL)
            return true;
    }
    bool found = false;
    for (int n = 0; n < 12 && !found; n++) {
        decode_here(&i, pc);
        if (!i.valid)
            break;
        switch (i.z.mnemonic) {
        case ZYDIS_MNEMONIC_PCMPEQB:
        case ZYDIS_MNEMONIC_VPCMPEQB:
        case ZYDIS_MNEMONIC_PMINUB:
        case ZYDIS_MNEMONIC_VPMINUB:
        case ZYDIS_MNEMONIC_PCMPISTRI:
        case ZYDIS_MNEMONIC_VPCMPISTRI:
        case ZYDIS_MNEMONIC_PMOVMSKB:
        case ZYDIS_MNEMONIC_VPMOVMSKB:
            found = true;
            break;
        default:
            break;
        }
        for (int k = 0; k < i.z.operand_count_visible; k++) {
            uint64_t v = i.operands[k].type == ZYDIS_OPERAND_TYPE_IMMEDIATE
                             ? i.operands[k].imm.value.u
                             : 0;
            found |= v == 0x8080808080808080ULL || v == 0x0101010101010101ULL ||
                     v == 0xfefefefefefefeffULL;
        }
        pc += i.z.length;
    }
    return found;
}

bool drops_beyond(gaddr pc, uint64_t kept) {
    struct instruction load, next;
    decode_here(&load, pc);
    if (!load.valid || load.z.mnemonic != ZYDIS_MNEMONIC_MOV ||
        load.operands[0].type != ZYDIS_OPERAND_TYPE_REGISTER)
        return false;
    decode_here(&next, pc + load.z.length);
    const ZydisDecodedOperand *o = next.operands;
    int reg = register_number(load.operands[0].reg.value);
    uint64_t mask = (1ULL << 8 * kept) - 1, size = load.operands[0].size / 8;
    if (!next.valid || reg < 0)
        return false;
    switch (next.z.mnemonic) {
    case ZYDIS_MNEMONIC_AND:
        return o[0].type == ZYDIS_OPERAND_TYPE_REGISTER && register_number(o[0].reg.value) == reg &&
               o[1].type == ZYDIS_OPERAND_TYPE_IMMEDIATE && !(o[1].imm.value.u & ~mask);
    case ZYDIS_MNEMONIC_MOVZX:
        return o[1].type == ZYDIS_OPERAND_TYPE_REGISTER && register_number(o[0].reg.value) == reg &&
               register_number(o[1].reg.value) == reg && o[1].size <= 8 * kept;
    case ZYDIS_MNEMONIC_SHL:
        return o[0].type == ZYDIS_OPERAND_TYPE_REGISTER && register_number(o[0].reg.value) == reg &&
               o[0].size == load.operands[0].size && o[1].type == ZYDIS_OPERAND_TYPE_IMMEDIATE &&
               o[1].imm.value.u >= 8 * (size - kept);
    default:
        return false;
    }
}

/* mov or lea to the stack pointer: REX.W, the opcode, and RSP in ModRM. */
static bool looks_like_move(const uint8_t *b) {
    enum { LOAD = 0x8b, LEA = 0x8d, STORE = 0x89 };
    if (b[1] == LOAD || b[1] == LEA)
        return (b[0] & 0xfc) == 0x48 && (b[2] & 0x38) == 0x20;
    return b[1] == STORE && (b[0] & 0xfb) == 0x48 && (b[2] & 0xc7) == 0xc4;
}

static bool gives_room_back(const struct instruction *i) {
    return (i->z.mnemonic == ZYDIS_MNEMONIC_MOV || i->z.mnemonic == ZYDIS_MNEMONIC_LEA) &&
           i->operands[0].type == ZYDIS_OPERAND_TYPE_REGISTER &&
           i->operands[0].reg.value == ZYDIS_REGISTER_RSP && !stack_shift(i);
}

bool room_was_given_back(gaddr pc) {
    enum { FAR = 64, SHORTEST = 3 };
    struct instruction i;
    struct mapping m;
    if (!memory_lookup(pc - FAR, &m) || !(m.protection & 1) || m.end < pc)
        return false;
    for (gaddr from = pc - SHORTEST; from >= pc - FAR; from--) {
        gaddr at = from;
        if (!looks_like_move(guest(at)))
            continue;
        decode_here(&i, at);
        if (!i.valid || !gives_room_back(&i))
            continue;
        do {
            at += i.z.length;
            if (at < pc)
                decode_here(&i, at);
        } while (at < pc && i.valid && role_of(&i) == PLAIN && !(i.registers_written & 1u << RSP));
        if (at == pc)
            return true;
    }
    return false;
}

bool red_zone_was_taken(const struct context *c, gaddr pc, gaddr address) {
    enum { FAR = 128, LENGTH = 5 }; /* lea r, [rsp - n] */
    gaddr sp = c->registers[RSP];
    struct mapping m;
    if (address >= sp || address < sp - RED_ZONE)
        return false;
    for (gaddr at = pc - LENGTH; at > pc - FAR; at--) {
        const uint8_t *code = guest(at);
        if (!memory_lookup(at, &m) || !(m.protection & 1) || m.end < pc)
            return false;
        if ((code[0] & 0xfb) == 0x48 && code[1] == 0x8d && (code[2] & 0xc7) == 0x44 &&
            code[3] == 0x24 && code[4] >= 0x80 && sp - (gaddr)(0x100 - code[4]) <= address)
            return true;
    }
    return false;
}

void describe_fault(struct context *c, gaddr pc, struct access *access) {
    struct instruction i;
    struct mapping mapped;
    if (!memory_lookup(pc, &mapped)) {
        access->address = access->bad = pc;
        return;
    }
    bool touches = false;
    decode_here(&i, pc);
    if (!i.valid)
        return;
    for (int k = 0; k < i.memory_count; k++) {
        const struct memory *m = &i.memory[k];
        gaddr a = effective(c, m);
        bool stack_push = m->base == RSP && !m->encoded;
        if (stack_push && m->write)
            a -= m->size;
        if (!m->read && !m->write)
            continue;
        touches = true;
        /* several operands: the one that holds the faulting address */
        bool holds = c->fault_address >= a && c->fault_address < a + (m->size ? m->size : 1);
        if (i.memory_count == 1 || holds || (m->encoded && c->fault_address == 0)) {
            access->address = access->bad = a;
            access->size = m->size;
            access->write = m->write;
            if (holds || i.memory_count == 1)
                return;
        }
    }
    if (!touches)
        access->size = 0;
}

/* Tells of the first undefined byte of a register, of `size` from `from` on. */
static bool tell_register(struct context *c, gaddr pc, int reg, unsigned from, unsigned size,
                          const char *what) {
    for (unsigned byte = from; byte < from + size; byte++)
        if (dirty_words(c)[reg] >> 8 * byte & 255) {
            finding_undefined(c, pc, dirty_byte_origin(c, reg, (int)byte), what, 0, 0, NULL);
            return true;
        }
    return false;
}

void describe_division(struct context *c, gaddr pc) {
    static const char divisor[] = "is the divisor of a division that fails",
                      dividend[] = "is the dividend of a division that fails";
    struct instruction i;
    decode_here(&i, pc);
    const ZydisDecodedOperand *o = &i.operands[0];
    if (!i.valid || (i.z.mnemonic != ZYDIS_MNEMONIC_DIV && i.z.mnemonic != ZYDIS_MNEMONIC_IDIV))
        return;
    unsigned size = o->size / 8u;
    bool high = o->type == ZYDIS_OPERAND_TYPE_REGISTER && o->reg.value >= ZYDIS_REGISTER_AH &&
                o->reg.value <= ZYDIS_REGISTER_BH;
    if (o->type == ZYDIS_OPERAND_TYPE_MEMORY
            ? !check_defined(c, pc, effective(c, &i.memory[0]), size, divisor, NULL)
            : tell_register(c, pc, register_number(o->reg.value), high, size, divisor))
        return;
    if (size == 1) /* all in AX */
        tell_register(c, pc, RAX, 0, 2, dividend);
    else if (!tell_register(c, pc, RAX, 0, size, dividend))
        tell_register(c, pc, RDX, 0, size, dividend);
}

static void emulate_cpuid(struct context *c) {
    uint32_t leaf = (uint32_t)c->registers[RAX], sub = (uint32_t)c->registers[RCX];
    uint32_t a, b, x, d;
    __asm__ volatile("cpuid" : "=a"(a), "=b"(b), "=c"(x), "=d"(d) : "0"(leaf), "2"(sub));
    if (leaf == 7 && sub == 0) {
        /* No transactional memory, MPX, protection keys, shadow stacks, and of AVX-512
           not what few processors had (bits 26, 27 of EBX). */
        b &= ~(1u << 4 | 1u << 11 | 1u << 14 | 1u << 26 | 1u << 27);
        x &= ~(1u << 3 | 1u << 4 | 1u << 7);
        d &= ~(1u << 2 | 1u << 3 | 1u << 8 | 1u << 20 | 1u << 22 | 1u << 23 | 1u << 24 | 1u << 25);
    }
    if (leaf == 7 && sub == 1)
        a = 0;
    c->registers[RAX] = a;
    c->registers[RBX] = b;
    c->registers[RCX] = x;
    c->registers[RDX] = d;
}

void emulate(struct context *c, gaddr pc) {
    struct instruction i;
    /* Vectors are saved around decoding: the decoder library uses them. */
    char *area = (char *)c + CTX_VECTOR;
    __asm__ volatile("xsave64 %0" : "+m"(*area) : "a"(-1), "d"(-1) : "memory");
    decode_here(&i, pc);
    __asm__ volatile("xrstor64 %0" : : "m"(*area), "a"(-1), "d"(-1) : "memory");
    c->pc = pc + i.z.length;
    if (c->dirty)
        dirty_clear(c, 1ULL << RAX | 1ULL << RBX | 1ULL << RCX | 1ULL << RDX);
    int reg = i.operands[0].type == ZYDIS_OPERAND_TYPE_REGISTER
                  ? register_number(i.operands[0].reg.value)
                  : -1;
    uint64_t mask = i.z.operand_width == 32 ? 0xffffffffULL : ~0ULL;
    switch (i.z.mnemonic) {
    case ZYDIS_MNEMONIC_CPUID:
        emulate_cpuid(c);
        break;
    case ZYDIS_MNEMONIC_RDFSBASE:
        c->registers[reg] = c->fs_base & mask;
        break;
    case ZYDIS_MNEMONIC_RDGSBASE:
        c->registers[reg] = c->gs_base & mask;
        break;
    case ZYDIS_MNEMONIC_WRFSBASE:
        c->fs_base = c->registers[reg] & mask;
        break;
    case ZYDIS_MNEMONIC_WRGSBASE:
        c->gs_base = c->registers[reg] & mask;
        break;
    case ZYDIS_MNEMONIC_XBEGIN: /* every transaction aborts at once */
        c->registers[RAX] = 0;
        c->pc += (uint64_t)i.operands[0].imm.value.s;
        break;
    case ZYDIS_MNEMONIC_INT3:
    case ZYDIS_MNEMONIC_INT1:
        signals_raise(c, 5, 128, 0);
        break;
    default:
        c->pc = pc;
        signals_raise(c, 11, 128, 0);
    }
}
