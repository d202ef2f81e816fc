/* AVR chips, in the library of a simulator: what chip.c runs entries on. */
#include "chip.h"

#include "sim_avr.h"
#include "sim_elf.h"

#include <signal.h>
#include <stdarg.h>

enum { SP_LOW = 0x5d, SP_HIGH = 0x5e, DATA_AT = 0x800000, REGISTERS = 32 };

static avr_t *chip;
unsigned char *chip_memory;
uint32_t chip_first, chip_last, chip_code_end;

static void quiet(avr_t *avr, const int level, const char *text, va_list rest)
{
    (void)avr; (void)level; (void)text; (void)rest;
}

void chip_open(const char *name, const char *program)
{
    elf_firmware_t firmware = { 0 };
    avr_global_logger_set(quiet);
    if (elf_read_firmware(program, &firmware)) chip_fail("the program cannot be read");
    if (!(chip = avr_make_mcu_by_name(name))) chip_fail("the simulator does not know this chip");
    avr_init(chip);
    if (!firmware.frequency) firmware.frequency = 16000000;
    avr_load_firmware(chip, &firmware);
    chip->run_cycle_limit = chip->run_cycle_count = 1; /* one instruction at a time */
    chip_memory = chip->data;
    chip_first = chip->ioend + 1u;
    chip_last = chip->ramend;
    chip_code_end = chip->flashend + 1;
}

/* Where the next instruction reads or writes memory by an address; 0 where it does not. */
static int accesses(uint32_t *address)
{
    const unsigned char *r = chip->data, *code = chip->flash + chip->pc;
    uint16_t op = (uint16_t)(code[0] | code[1] << 8);
    uint16_t x = (uint16_t)(r[26] | r[27] << 8), y = (uint16_t)(r[28] | r[29] << 8);
    uint16_t z = (uint16_t)(r[30] | r[31] << 8);
    int how = op & 0x200 ? WRITE : READ;
    if ((op & 0xd000) == 0x8000) {
        *address = (op & 8 ? y : z) + ((op & 7) | (op >> 7 & 0x18) | (op >> 8 & 0x20));
        return how;
    }
    if ((op & 0xfc00) != 0x9000) return 0;
    switch (op & 15) {
    case 0: *address = (uint32_t)(code[2] | code[3] << 8); return how;
    case 1: *address = z; return how;
    case 2: *address = (uint16_t)(z - 1); return how;
    case 9: *address = y; return how;
    case 10: *address = (uint16_t)(y - 1); return how;
    case 12: case 13: *address = x; return how;
    case 14: *address = (uint16_t)(x - 1); return how;
    default: return 0;
    }
}

/* What the next instruction pushes (above 0) or pops, in bytes. */
static int pushes(void)
{
    const unsigned char *code = chip->flash + chip->pc;
    uint16_t op = (uint16_t)(code[0] | code[1] << 8);
    if ((op & 0xfe0f) == 0x920f) return 1;
    if ((op & 0xfe0f) == 0x900f) return -1;
    if ((op & 0xf000) == 0xd000 || (op & 0xfe0e) == 0x940e || op == 0x9509)
        return (int)chip_back_bytes();
    return op == 0x9508 ? -(int)chip_back_bytes() : 0;
}

void chip_step(int watched)
{
    uint32_t address;
    int how = watched ? accesses(&address) : 0, bytes = watched ? pushes() : 0;
    if (how) chip_access(how, address);
    for (int i = 0; i < bytes; i++) chip_note(WRITE, chip_stack() - (uint32_t)(bytes - 1 - i));
    for (int i = 1; i <= -bytes; i++) chip_note(READ, chip_stack() + (uint32_t)i);
    if (avr_run(chip) == cpu_Crashed) chip_end(SIGILL, 0, 0);
}

void chip_go(uint32_t address)
{
    chip->data[1] = 0; /* what the compiler takes for zero */
    chip->pc = address;
    chip->state = cpu_Running;
}

uint32_t chip_back(void)
{
    const unsigned char *at = chip->data + chip_stack() + 1;
    uint32_t back = 0;
    for (uint32_t i = 0; i < chip_back_bytes(); i++) back = back << 8 | at[i];
    return back * 2;
}

void chip_set_stack(uint32_t to)
{
    chip->data[SP_LOW] = (uint8_t)to;
    chip->data[SP_HIGH] = (uint8_t)(to >> 8);
}

uint32_t chip_at(void) { return chip->pc; }
uint64_t chip_cycles(void) { return chip->cycle; }
uint32_t chip_stack(void) { return chip->data[SP_LOW] | (uint32_t)chip->data[SP_HIGH] << 8; }
uint32_t chip_in_use(void) { return chip_stack() + 1; }
uint32_t chip_back_bytes(void) { return chip->address_size; }
uint32_t chip_data(uint32_t symbol) { return symbol - DATA_AT; }

unsigned chip_registers(uint64_t values[40], unsigned char bytes[40])
{
    unsigned count = 0;
    uint64_t flags = 0;
    for (int i = 0; i < 8; i++) flags |= (uint64_t)(chip->sreg[i] & 1) << i;
    for (int i = 0; i < REGISTERS; i++) {
        bytes[count] = 1;
        values[count++] = chip->data[i];
    }
    bytes[count] = 2;
    values[count++] = chip_stack();
    bytes[count] = 1;
    values[count++] = flags;
    return count;
}

int chip_common(int how, uint32_t address)
{
    (void)how;
    return address >= REGISTERS && address <= chip->ioend;
}
