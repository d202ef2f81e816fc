/* A worker for code of AVR chips: talks as worker.c does, and calls entries in the simulator.
 *
 * Arguments: a file that says the chip and the entries, the program, then as those of worker.c.
 * The file: the chip's name, then a line for each entry: symbol, 0 (returns nothing), 1 (a value)
 * or 2 (a pointer), bytes of a value.
 * Answers T, R, G and Q of worker.c, and
 *   C  cycles  SET -> u64 cycles, u64 instructions, u32 bytes of stack of one call, from the entry's
 *      first instruction to its return, with both
 *   H  where   SET -> of each instruction that call executed: u32 address, u32 times, u64 cycles
 *
 * The program starts once; each call then goes through its main() again, so that variables keep
 * what calls left. Each access to memory is looked at before it is made: only variables, the stack
 * and what was passed may be touched.
 */
#include "sim_avr.h"
#include "sim_elf.h"

#include <fcntl.h>
#include <gelf.h>
#include <libelf.h>
#include <signal.h>
#include <stdarg.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <unistd.h>

enum { MOST_ENTRIES = 256, MOST_ARGUMENTS = 64, MOST_WATCHED = 4096, NAME = 256, REPORT_FD = 3 };
enum { GAP = 8 /* bytes around buffers that nobody may touch */, REGISTERS = 32, RAM = 0x100 };
enum { SP_LOW = 0x5d, SP_HIGH = 0x5e, DATA_AT = 0x800000 };
enum { NOTHING, VALUE, POINTER };
enum { MOST_KINDS = 16, MOST_OUTPUT = 1 << 18 };
enum { NO_ROOM = 2, SPARE = 64 /* bytes of stack that a call has at the least */ };
enum { SCALAR, BUFFER, ALIAS };
enum { READ = 1, WRITE = 2 };
static const uint64_t MOST_INSTRUCTIONS = 400000000; /* of one call: then it counts as endless */

struct entry { char symbol[NAME]; uint32_t address; int returns; unsigned size; };
struct argument { int kind, writable; uint16_t at; uint64_t size; const unsigned char *bytes; };
struct watched { uint64_t offset, size; };
struct report {
    uint32_t state;
    int32_t signal, code, access;
    uint64_t address, instruction, stack, base;
    int32_t argument;
    uint32_t calls;
    int64_t offset;
};

static avr_t *chip;
static struct entry entries[MOST_ENTRIES];
static unsigned entry_count;
static struct argument arguments[MOST_ARGUMENTS];
static unsigned argument_count;
static struct watched watched[MOST_WATCHED];
static unsigned watched_count;
static struct report *report;
static uint32_t main_at, done_at, number_at, values_at, result_at, free_at;
static uint16_t first_stack, buffers_end;
static struct place { uint32_t times; uint64_t cycles; } *places; /* by address / 2, or NULL */
static volatile sig_atomic_t asked;

static void fail(const char *why)
{
    fprintf(stderr, "%s\n", why);
    _exit(124);
}

static void read_all(void *to, size_t size)
{
    for (char *at = to; size;) {
        ssize_t got = read(0, at, size);
        if (got <= 0) _exit(0);
        at += got;
        size -= (size_t)got;
    }
}

static void write_all(const void *from, size_t size)
{
    for (const char *at = from; size;) {
        ssize_t done = write(1, at, size);
        if (done <= 0) _exit(0);
        at += done;
        size -= (size_t)done;
    }
}

static void answer(const void *from, uint32_t size)
{
    uint8_t status = from ? 0 : NO_ROOM;
    write_all(&status, 1);
    write_all(&size, 4);
    write_all(from, size);
}

static void quiet(avr_t *avr, const int level, const char *text, va_list rest)
{
    (void)avr; (void)level; (void)text; (void)rest;
}

/* Symbols. */

static uint32_t *place_of(const char *name)
{
    static const char *const names[] = {
        "main", "hot_anvil_done", "hot_anvil_entry", "hot_anvil_values", "hot_anvil_result", "_end",
    };
    uint32_t *const places[] = { &main_at, &done_at, &number_at, &values_at, &result_at, &free_at };
    for (int i = 0; i < 6; i++)
        if (!strcmp(name, names[i])) return places[i];
    for (unsigned i = 0; i < entry_count; i++)
        if (!strcmp(name, entries[i].symbol)) return &entries[i].address;
    return NULL;
}

static void read_symbols(const char *path)
{
    int fd = open(path, O_RDONLY | O_CLOEXEC);
    elf_version(EV_CURRENT);
    Elf *elf = elf_begin(fd, ELF_C_READ, NULL);
    GElf_Shdr head;
    for (Elf_Scn *part = NULL; (part = elf_nextscn(elf, part));) {
        gelf_getshdr(part, &head);
        if (head.sh_type != SHT_SYMTAB) continue;
        Elf_Data *data = elf_getdata(part, NULL);
        for (size_t i = 0; i < head.sh_size / head.sh_entsize; i++) {
            GElf_Sym symbol;
            gelf_getsym(data, (int)i, &symbol);
            const char *name = elf_strptr(elf, head.sh_link, symbol.st_name);
            uint32_t *place = name ? place_of(name) : NULL;
            if (place) *place = (uint32_t)symbol.st_value;
        }
    }
    elf_end(elf);
    close(fd);
}

static void read_entries(const char *path, char *name)
{
    FILE *file = fopen(path, "r");
    if (!file || fscanf(file, "%63s", name) != 1) fail("the list of entries cannot be read");
    struct entry *e = entries;
    while (entry_count < MOST_ENTRIES
           && fscanf(file, "%255s %d %u", e->symbol, &e->returns, &e->size) == 3) {
        e++;
        entry_count++;
    }
    fclose(file);
}

/* Endings. */

static uint16_t stack(void) { return (uint16_t)(chip->data[SP_LOW] | chip->data[SP_HIGH] << 8); }

static void tell(int number, int access, uint32_t address, int argument, int64_t offset)
{
    report->signal = number;
    report->code = 1;
    report->access = access;
    report->address = address;
    report->instruction = chip->pc;
    report->stack = stack();
    report->argument = argument;
    report->offset = offset;
    report->state = 1;
}

static void end(int number, int access, uint32_t address, int argument, int64_t offset)
{
    tell(number, access, address, argument, offset);
    signal(number, SIG_DFL);
    raise(number);
    _exit(125);
}

static void ask(int number)
{
    (void)number;
    asked = 1;
}

/* Where an instruction reads or writes memory by an address; 0 where it does not. */
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

static void look_at(int how, uint32_t address)
{
    uint32_t variables = free_at - DATA_AT;
    if (address > chip->ramend) end(SIGSEGV, how, address, -1, 0);
    if (address < RAM ? address >= REGISTERS : address < variables || address > stack()) return;
    for (unsigned i = 0; i < argument_count; i++) {
        const struct argument *a = &arguments[i];
        if (a->kind != BUFFER) continue;
        int64_t offset = (int64_t)address - a->at;
        int inside = offset >= 0 && offset < (int64_t)a->size;
        if (inside && (how == READ || a->writable)) return;
        if (offset >= -GAP && offset < (int64_t)a->size + GAP)
            end(SIGSEGV, how, address, (int)i, offset);
    }
    end(SIGSEGV, how, address, -1, 0);
}

/* Calls. */

struct cost { uint64_t cycles, instructions; uint32_t stack; };

static void step(void)
{
    int state = avr_run(chip);
    if (state == cpu_Crashed) end(SIGILL, 0, 0, -1, 0);
}

static void start(void)
{
    for (uint64_t n = 0; chip->pc != main_at; n++) {
        if (n > MOST_INSTRUCTIONS) fail("the program does not reach its main");
        step();
    }
    first_stack = stack();
}

static struct cost call(unsigned number)
{
    struct cost cost = { 0 };
    uint32_t entry = entries[number].address, back = 0;
    uint16_t sp_entry = 0, lowest = 0xffff;
    uint64_t cycles = 0, count = 0;
    chip->data[SP_LOW] = (uint8_t)first_stack;
    chip->data[SP_HIGH] = (uint8_t)(first_stack >> 8);
    chip->data[1] = 0;
    chip->data[number_at - DATA_AT] = (uint8_t)number;
    chip->pc = main_at;
    chip->state = cpu_Running;
    while (chip->pc != done_at) {
        uint16_t sp = stack();
        if (sp < buffers_end) end(SIGSEGV, WRITE, sp, -1, 0);
        if (!back && chip->pc == entry) {
            back = (uint32_t)(chip->data[sp + 1] << 8 | chip->data[sp + 2]) * 2;
            sp_entry = sp;
            cycles = chip->cycle;
        } else if (back && !cost.cycles && chip->pc == back && sp == sp_entry + 2) {
            cost = (struct cost){ chip->cycle - cycles, count, (uint32_t)(sp - lowest) };
        }
        if (back && !cost.cycles) {
            uint32_t address;
            int how = accesses(&address);
            if (how) look_at(how, address);
            if (sp < lowest) lowest = sp;
            count++;
        }
        int noted = places && back && !cost.cycles;
        uint32_t at = chip->pc / 2;
        uint64_t before = chip->cycle;
        if (asked || count > MOST_INSTRUCTIONS) {
            while (!asked) pause();
            tell(0, 0, 0, -1, 0);
            _exit(125);
        }
        step();
        if (noted) {
            places[at].times++;
            places[at].cycles += chip->cycle - before;
        }
    }
    return cost;
}

static uint64_t number_at_bytes(const unsigned char **at, int bytes)
{
    uint64_t value = 0;
    memcpy(&value, *at, (size_t)bytes);
    *at += bytes;
    return value;
}

static void put_word(uint32_t at, uint16_t value)
{
    chip->data[at] = (uint8_t)value;
    chip->data[at + 1] = (uint8_t)(value >> 8);
}

/* Lays out a SET: head of worker.c. Returns the entry's number, -1 where there is no room. */
static int lay_out(const unsigned char *p)
{
    unsigned entry = (unsigned)number_at_bytes(&p, 2);
    argument_count = (unsigned)number_at_bytes(&p, 2);
    p++;
    int pattern = *p++;
    uint32_t at = free_at - DATA_AT, value = values_at - DATA_AT;
    memset(chip->data + at, pattern, first_stack - at);
    for (unsigned i = 0; i < argument_count; i++) {
        struct argument *a = &arguments[i];
        a->kind = *p++;
        a->writable = *p++;
        p++;
        unsigned align = (unsigned)number_at_bytes(&p, 2);
        a->size = number_at_bytes(&p, 8);
        a->bytes = p;
        p += a->size;
        if (a->kind != BUFFER) continue;
        at += GAP;
        if (align) at = (at + align - 1) / align * align;
        if (at + a->size + GAP + SPARE > first_stack) return -1;
        a->at = (uint16_t)at;
        memcpy(chip->data + at, a->bytes, a->size);
        at += (uint32_t)a->size + GAP;
    }
    buffers_end = (uint16_t)at;
    for (unsigned i = 0; i < argument_count; i++) {
        const struct argument *a = &arguments[i];
        int64_t said[2];
        if (a->kind == SCALAR) {
            memcpy(chip->data + value, a->bytes, a->size);
            value += (uint32_t)a->size;
            continue;
        }
        if (a->kind == ALIAS) memcpy(said, a->bytes, sizeof said);
        put_word(value, (uint16_t)(a->kind == BUFFER ? a->at : arguments[said[0]].at + said[1]));
        value += 2;
    }
    return (int)entry;
}

static size_t put_result(const struct entry *entry, unsigned char *to)
{
    const unsigned char *from = chip->data + result_at - DATA_AT;
    if (entry->returns == NOTHING) return 0;
    if (entry->returns == VALUE) {
        memcpy(to, from, entry->size);
        return entry->size;
    }
    int64_t told[2] = { -2, 0 };
    uint16_t pointer = (uint16_t)(from[0] | from[1] << 8);
    if (!pointer) told[0] = -1;
    for (unsigned i = 0; i < argument_count; i++)
        if (arguments[i].kind == BUFFER && pointer >= arguments[i].at
            && pointer <= arguments[i].at + arguments[i].size) {
            told[0] = (int64_t)i;
            told[1] = pointer - arguments[i].at;
            break;
        }
    memcpy(to, told, sizeof told);
    return sizeof told;
}

/* An OUTPUT: head of slots.c. */
static uint32_t output(const struct entry *entry, unsigned char *to)
{
    int32_t damaged = -1;
    uint32_t left = 0;
    unsigned char *at = to + 16;
    memset(to, 0, 16);
    memcpy(to, &damaged, 4);
    memcpy(to + 12, &left, 4);
    at += put_result(entry, at);
    for (unsigned i = 0; i < argument_count; i++)
        if (arguments[i].kind == BUFFER && arguments[i].writable) {
            memcpy(at, chip->data + arguments[i].at, arguments[i].size);
            at += arguments[i].size;
        }
    for (unsigned i = 0; i < watched_count; i++) {
        memcpy(at, chip->data + (watched[i].offset & 0xffff), watched[i].size);
        at += watched[i].size;
    }
    return (uint32_t)(at - to);
}

/* Calls again and again, and counts how often each output came: head of worker.c. */
static void repeat(const unsigned char *payload)
{
    static unsigned char outputs[MOST_KINDS][MOST_OUTPUT];
    uint32_t calls, kinds = 0, size = 0, counts[MOST_KINDS] = { 0 };
    memcpy(&calls, payload, 4);
    for (uint32_t i = 0; i < calls; i++) {
        uint32_t kind = 0, last = kinds < MOST_KINDS ? kinds : MOST_KINDS - 1;
        int entry = lay_out(payload + 4);
        if (entry < 0) {
            answer(NULL, 0);
            return;
        }
        call((unsigned)entry);
        size = output(&entries[entry], outputs[last]);
        while (kind < kinds && memcmp(outputs[kind], outputs[last], size)) kind++;
        if (kind == kinds && kinds < MOST_KINDS) kinds++;
        counts[kind < MOST_KINDS ? kind : last]++;
    }
    uint8_t status = 0;
    uint32_t all = 4 + kinds * (4 + size);
    write_all(&status, 1);
    write_all(&all, 4);
    write_all(&kinds, 4);
    write_all(counts, 4 * kinds);
    for (uint32_t k = 0; k < kinds; k++) write_all(outputs[k], size);
}

static void tell_places(const unsigned char *payload)
{
    size_t count = (chip->flashend + 1) / 2;
    unsigned char *told = malloc(count * 16 + 1), *at = told;
    places = calloc(count, sizeof *places);
    int entry = lay_out(payload);
    if (!told || !places) _exit(122);
    if (entry >= 0) call((unsigned)entry);
    for (uint32_t i = 0; i < count; i++) {
        if (!places[i].times) continue;
        uint32_t address = 2 * i;
        memcpy(at, &address, 4);
        memcpy(at + 4, &places[i].times, 4);
        memcpy(at + 8, &places[i].cycles, 8);
        at += 16;
    }
    answer(told, (uint32_t)(at - told));
    free(told);
    free(places);
    places = NULL;
}

static void serve(int op, const unsigned char *payload)
{
    static unsigned char told[MOST_OUTPUT];
    if (op == 'Q') _exit(0);
    if (op == 'G') {
        const unsigned char *p = payload + 1;
        uint32_t count = (uint32_t)number_at_bytes(&p, 4);
        watched_count = count < MOST_WATCHED ? count : MOST_WATCHED;
        memcpy(watched, p, watched_count * sizeof *watched);
        answer(told, 0);
        return;
    }
    if (op == 'R' || op == 'H') {
        (op == 'R' ? repeat : tell_places)(payload);
        return;
    }
    if (op != 'T' && op != 'C') fail("a request that chips do not take");
    int entry = lay_out(payload);
    if (entry < 0) {
        answer(NULL, 0);
        return;
    }
    struct cost cost = call((unsigned)entry);
    if (op == 'C') {
        memcpy(told, &cost.cycles, 8);
        memcpy(told + 8, &cost.instructions, 8);
        memcpy(told + 16, &cost.stack, 4);
        answer(told, 20);
        return;
    }
    answer(told, output(&entries[entry], told));
}

int main(int argc, char **argv)
{
    static char name[64];
    elf_firmware_t firmware = { 0 };
    if (argc != 6 || chdir(argv[5])) return 124;
    prctl(PR_SET_PDEATHSIG, SIGKILL);
    report = mmap(NULL, 4096, PROT_READ | PROT_WRITE, MAP_SHARED, REPORT_FD, 0);
    if (report == MAP_FAILED) return 124;
    signal(SIGXCPU, ask);
    avr_global_logger_set(quiet);
    read_entries(argv[1], name);
    read_symbols(argv[2]);
    if (elf_read_firmware(argv[2], &firmware)) fail("the program cannot be read");
    if (!(chip = avr_make_mcu_by_name(name))) fail("the simulator does not know this chip");
    avr_init(chip);
    if (!firmware.frequency) firmware.frequency = 16000000;
    avr_load_firmware(chip, &firmware);
    chip->run_cycle_limit = chip->run_cycle_count = 1; /* one instruction at a time */
    start();
    size_t room = 0;
    unsigned char *payload = NULL;
    for (;;) {
        unsigned char head[5];
        uint32_t size;
        read_all(head, 5);
        memcpy(&size, head + 1, 4);
        if (size >= room && !(payload = realloc(payload, room = (size_t)size + 1))) return 122;
        read_all(payload, size);
        serve(head[0], payload);
    }
}
