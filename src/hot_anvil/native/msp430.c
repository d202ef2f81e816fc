/* MSP430 chips: a simulator of the processor without its devices, for chip.c.
 *
 * The original core (27 instructions, seven ways to address). What instructions do and the cycles
 * they take are those of the family's user's guide, "CPU": tables "Interrupt and reset cycles",
 * "Format-II" and "Format-I instruction cycles and lengths"; a jump takes two, taken or not. The
 * constant generator's operands cost what a register's do.
 */
#include "chip.h"

#include <elf.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { RAM = 0x200, RAM_END = 0x4000, CODE = 0x4000, CODE_END = 0xffe0, RESET = 0xfffe };
enum { PC, SP, SR, CG };
enum { CARRY = 1, ZERO = 2, NEGATIVE = 4, OFF = 0x10, OVERFLOW = 0x100 };
enum { IN_REGISTER, INDIRECT, STEPPING, IMMEDIATE, INDEXED }; /* sources, as the tables have them */

static unsigned char memory[0x10000];
static uint16_t r[16], now;
static uint64_t cycles;
static int watching;
unsigned char *chip_memory = memory;
uint32_t chip_first = RAM, chip_last = RAM_END - 1, chip_code_end = CODE_END;

void chip_open(const char *name, const char *program)
{
    static unsigned char file[1 << 20];
    FILE *from = fopen(program, "rb");
    size_t size = from ? fread(file, 1, sizeof file, from) : 0;
    const Elf32_Ehdr *head = (const Elf32_Ehdr *)file;
    const Elf32_Phdr *parts = (const Elf32_Phdr *)(file + head->e_phoff);
    (void)name;
    if (size < sizeof *head) chip_fail("the program cannot be read");
    fclose(from);
    memset(memory + CODE, 0xff, sizeof memory - CODE);
    for (int i = 0; i < head->e_phnum; i++) {
        if (parts[i].p_type != PT_LOAD) continue;
        if (parts[i].p_vaddr + parts[i].p_memsz > sizeof memory) chip_fail("the program is too large");
        memcpy(memory + parts[i].p_vaddr, file + parts[i].p_offset, parts[i].p_filesz);
    }
    r[PC] = now = (uint16_t)(memory[RESET] | memory[RESET + 1] << 8);
}

static void look(int how, uint16_t at, int byte)
{
    chip_access(how, at);
    if (!byte) chip_access(how, at + 1u);
}

/* The lowest bit of a word's address is not looked at. */
static uint16_t load(uint16_t at, int byte)
{
    if (!byte) at &= 0xfffe;
    if (watching) look(READ, at, byte);
    return byte ? memory[at] : (uint16_t)(memory[at] | memory[at + 1] << 8);
}

static void store(uint16_t at, uint16_t value, int byte)
{
    if (!byte) at &= 0xfffe;
    if (watching) look(WRITE, at, byte);
    memory[at] = (uint8_t)value;
    if (!byte) memory[at + 1] = (uint8_t)(value >> 8);
}

static uint16_t fetch(void)
{
    if (r[PC] < CODE || r[PC] >= CODE_END) chip_end(SIGSEGV, READ, r[PC]);
    uint16_t word = (uint16_t)(memory[r[PC]] | memory[r[PC] + 1] << 8);
    r[PC] += 2;
    return word;
}

struct operand { uint16_t value; int32_t at; /* -1: a register */ int how; };

/* What stands in memory is loaded, in the order in which the processor does. */
static struct operand source(unsigned reg, unsigned mode, int byte)
{
    uint16_t at;
    if (reg == CG) {
        static const uint16_t constants[] = { 0, 1, 2, 0xffff };
        return (struct operand){ (uint16_t)(constants[mode] & (byte ? 0xff : 0xffff)), -1, IN_REGISTER };
    }
    if (reg == SR && mode > 1) return (struct operand){ mode == 2 ? 4 : 8, -1, IN_REGISTER };
    switch (mode) {
    case 0: return (struct operand){ (uint16_t)(byte ? r[reg] & 0xff : r[reg]), -1, IN_REGISTER };
    case 1:
        at = reg == SR ? 0 : r[reg]; /* before the fetch: from the word that says how far */
        at += fetch();
        return (struct operand){ load(at, byte), at, INDEXED };
    case 2:
        at = r[reg];
        return (struct operand){ load(at, byte), at, INDIRECT };
    default:
        if (reg == PC) {
            uint16_t word = fetch();
            return (struct operand){ (uint16_t)(byte ? word & 0xff : word), -1, IMMEDIATE };
        }
        at = r[reg];
        struct operand loaded = { load(at, byte), at, STEPPING };
        r[reg] += byte && reg != SP ? 1 : 2;
        return loaded;
    }
}

static void flags(uint16_t value, int byte, int carry, int overflow)
{
    r[SR] &= (uint16_t)~(NEGATIVE | ZERO | CARRY | OVERFLOW);
    if (value & (byte ? 0x80 : 0x8000)) r[SR] |= NEGATIVE;
    if (!value) r[SR] |= ZERO;
    if (carry) r[SR] |= CARRY;
    if (overflow) r[SR] |= OVERFLOW;
}

static uint16_t decimal(uint16_t to, uint16_t by, int byte)
{
    unsigned sum = 0, carry = r[SR] & CARRY;
    for (int i = 0; i < (byte ? 8 : 16); i += 4) {
        unsigned digit = (to >> i & 15u) + (by >> i & 15u) + carry;
        carry = digit > 9;
        sum |= ((carry ? digit - 10 : digit) & 15) << i;
    }
    flags((uint16_t)sum, byte, (int)carry, 0);
    return (uint16_t)sum;
}

/* Returns what an instruction makes of two operands; the flags are set. */
static uint16_t calculate(unsigned op, uint16_t to, uint16_t by, int byte)
{
    unsigned mask = byte ? 0xff : 0xffff, sign = byte ? 0x80 : 0x8000, sum;
    uint16_t made;
    switch (op) {
    case 4: return by;
    case 5: case 6:
        sum = to + by + (op == 6 ? r[SR] & CARRY : 0u);
        made = (uint16_t)(sum & mask);
        flags(made, byte, sum > mask, ((to ^ made) & (by ^ made) & sign) != 0);
        return made;
    case 7: case 8: case 9:
        sum = to + (~by & mask) + (op == 7 ? r[SR] & CARRY : 1u);
        made = (uint16_t)(sum & mask);
        flags(made, byte, sum > mask, ((to ^ by) & (to ^ made) & sign) != 0);
        return made;
    case 10: return decimal(to, by, byte);
    case 11: case 15:
        made = to & by;
        flags(made, byte, made != 0, 0);
        return made;
    case 12: return to & (uint16_t)~by;
    case 13: return to | by;
    default:
        made = to ^ by;
        flags(made, byte, made != 0, (to & by & sign) != 0);
        return made;
    }
}

static unsigned two_operands(uint16_t word)
{
    static const uint8_t register_costs[] = { 1, 2, 2, 2, 3 };
    static const uint8_t memory_costs[] = { 4, 5, 5, 5, 6 };
    static const uint8_t jump_costs[] = { 2, 2, 3, 3, 3 };
    unsigned op = word >> 12, reg = word & 15;
    int byte = word >> 6 & 1, compares = op == 9 || op == 11;
    struct operand by = source(word >> 8 & 15, word >> 4 & 3, byte);
    if (word & 0x80) {
        uint16_t at = reg == SR ? 0 : r[reg];
        at += fetch();
        uint16_t made = calculate(op, op == 4 ? 0 : load(at, byte), by.value, byte);
        if (!compares) store(at, made, byte);
        return memory_costs[by.how];
    }
    uint16_t made = calculate(op, (uint16_t)(byte ? r[reg] & 0xff : r[reg]), by.value, byte);
    if (!compares && reg != CG) r[reg] = reg == PC ? made & 0xfffe : made;
    return (reg == PC ? jump_costs : register_costs)[by.how];
}

static unsigned one_operand(uint16_t word)
{
    static const uint8_t rotate_costs[] = { 1, 3, 3, 3, 4 };
    static const uint8_t push_costs[] = { 3, 4, 5, 4, 5 };
    static const uint8_t call_costs[] = { 4, 4, 5, 5, 5 };
    unsigned op = word >> 7 & 7;
    int byte = word >> 6 & 1;
    if (op == 6) {
        r[SR] = load(r[SP], 0);
        r[PC] = load((uint16_t)(r[SP] + 2), 0);
        r[SP] += 4;
        return 5;
    }
    struct operand of = source(word & 15, word >> 4 & 3, byte);
    uint16_t made = of.value, sign = byte ? 0x80 : 0x8000;
    if (op == 4 || op == 5) {
        r[SP] -= 2;
        store(r[SP], op == 4 ? made : r[PC], op == 4 && byte);
        if (op == 5) r[PC] = made & 0xfffe;
        return (op == 4 ? push_costs : call_costs)[of.how];
    }
    if (op == 0 || op == 2) {
        int carry = made & 1;
        made = (uint16_t)(made >> 1 | (op == 2 ? made & sign : r[SR] & CARRY ? sign : 0));
        flags(made, byte, carry, 0);
    } else if (op == 1) {
        made = (uint16_t)(made << 8 | made >> 8);
    } else {
        made = (uint16_t)(int8_t)made;
        flags(made, 0, made != 0, 0);
    }
    if (of.at >= 0) store((uint16_t)of.at, made, byte);
    else if (!(word & 0x30)) r[word & 15] = made; /* else a constant */
    return rotate_costs[of.how];
}

static unsigned jump(uint16_t word)
{
    int zero = (r[SR] & ZERO) != 0, carry = r[SR] & CARRY, negative = (r[SR] & NEGATIVE) != 0;
    int less = negative != ((r[SR] & OVERFLOW) != 0);
    const int taken[] = { !zero, zero, !carry, carry, negative, !less, less, 1 };
    int by = word & 0x3ff;
    if (taken[word >> 10 & 7]) r[PC] += (uint16_t)(2 * (by & 0x200 ? by - 0x400 : by));
    return 2;
}

void chip_step(int watched)
{
    watching = watched;
    uint16_t word = fetch();
    if (word >= 0x4000) cycles += two_operands(word);
    else if (word >= 0x2000) cycles += jump(word);
    else if (word >= 0x1000 && word < 0x1380) cycles += one_operand(word);
    else chip_end(SIGILL, 0, 0);
    if (r[SR] & OFF) { /* asleep, and nothing wakes it */
        r[SR] &= (uint16_t)~OFF;
        r[PC] = now;
    }
    now = r[PC];
}

uint32_t chip_at(void) { return now; }
uint64_t chip_cycles(void) { return cycles; }
uint32_t chip_stack(void) { return r[SP]; }
void chip_set_stack(uint32_t to) { r[SP] = (uint16_t)to; }
uint32_t chip_in_use(void) { return r[SP]; }
uint32_t chip_back(void) { return (uint32_t)(memory[r[SP]] | memory[r[SP] + 1] << 8); }
uint32_t chip_back_bytes(void) { return 2; }
uint32_t chip_data(uint32_t symbol) { return symbol; }

unsigned chip_registers(uint64_t values[40], unsigned char bytes[40])
{
    unsigned count = 0;
    for (int i = SP; i < 16; i++) {
        if (i == SR || i == CG) continue;
        bytes[count] = 2;
        values[count++] = r[i];
    }
    bytes[count] = 2;
    values[count++] = r[SR];
    return count;
}

void chip_go(uint32_t address)
{
    r[SR] = 0;
    r[PC] = now = (uint16_t)address;
}

/* Devices, which are plain memory here, though not through a null pointer; and what is kept beside
 * code can be read. */
int chip_common(int how, uint32_t address)
{
    return (address > 1 && address < RAM) || (how == READ && address >= CODE);
}
