/* A worker for code of chips: talks as worker.c does, and calls entries in a simulator.
 *
 * Arguments: a file that says the chip and the entries, the program, then as those of worker.c.
 * The file: the chip's name, then a line for each entry: symbol, 0 (returns nothing), 1 (a value)
 * or 2 (a pointer), bytes of a value.
 * Answers T, R, G and Q of worker.c, and
 *   C  cycles  SET -> u64 cycles, u64 instructions, u32 bytes of stack of one call, from the entry's
 *      first instruction to its return, with both
 *   H  where   SET -> of each instruction that call executed: u32 address, u32 times, u64 cycles
 *   N  note    u64 most steps, u32 ranges, of each u32 first and u32 end of code under study, SET
 *      -> as T; what each of its instructions changed goes to standard error as a tape (tape.h)
 *
 * The program starts once; each call then goes through its main() again, so that variables keep
 * what calls left. Each access to memory is looked at before it is made: only variables, the stack
 * and what was passed may be touched, and what the chip lets all code touch.
 */
#include "chip.h"
#include "noting.h"
#include "report.h"

#include <elf.h>
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/stat.h>
#include <unistd.h>

enum { MOST_ENTRIES = 256, MOST_ARGUMENTS = 64, MOST_WATCHED = 4096, NAME = 256, REPORT_FD = 3 };
enum { GAP = 8 /* bytes around buffers that nobody may touch */ };
enum { NOTHING, VALUE, POINTER };
enum { MOST_KINDS = 16, MOST_OUTPUT = 1 << 18 };
enum { NO_ROOM = 2, SPARE = 64 /* bytes of stack that a call has at the least */ };
enum { SCALAR, BUFFER, ALIAS };
enum { ON_CHIP = 0x100, STACK_MET /* what was passed */ }; /* codes of endings, beyond a system's */
static const uint64_t MOST_INSTRUCTIONS = 400000000; /* of one call: then it counts as endless */

struct entry { char symbol[NAME]; uint32_t address; int returns; unsigned size; };
struct argument { int kind, writable; uint32_t at; uint64_t size; const unsigned char *bytes; };
struct watched { uint64_t offset, size; };

static struct entry entries[MOST_ENTRIES];
static unsigned entry_count;
static struct argument arguments[MOST_ARGUMENTS];
static unsigned argument_count;
static struct watched watched[MOST_WATCHED];
static unsigned watched_count;
static struct report *report;
static uint32_t main_at, done_at, number_at, values_at, result_at, free_at;
static uint32_t first_stack, buffers_end;
static struct place { uint32_t times; uint64_t cycles; } *places; /* by address / 2, or NULL */
static volatile sig_atomic_t asked;

void chip_fail(const char *why)
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

/* Symbols. */

static uint32_t *place_of(const char *name)
{
    static const char *const names[] = {
        "main", "hot_anvil_done", "hot_anvil_entry", "hot_anvil_values", "hot_anvil_result", "_end",
    };
    uint32_t *const known[] = { &main_at, &done_at, &number_at, &values_at, &result_at, &free_at };
    for (int i = 0; i < 6; i++)
        if (!strcmp(name, names[i])) return known[i];
    for (unsigned i = 0; i < entry_count; i++)
        if (!strcmp(name, entries[i].symbol)) return &entries[i].address;
    return NULL;
}

static void read_symbols(const char *path)
{
    struct stat file;
    int fd = open(path, O_RDONLY | O_CLOEXEC);
    if (fd < 0 || fstat(fd, &file)) chip_fail("the program cannot be read");
    char *data = mmap(NULL, (size_t)file.st_size, PROT_READ, MAP_PRIVATE, fd, 0);
    if (data == MAP_FAILED) chip_fail("the program cannot be read");
    const Elf32_Ehdr *head = (const Elf32_Ehdr *)data;
    const Elf32_Shdr *parts = (const Elf32_Shdr *)(data + head->e_shoff);
    for (int i = 0; i < head->e_shnum; i++) {
        if (parts[i].sh_type != SHT_SYMTAB) continue;
        const Elf32_Sym *symbols = (const Elf32_Sym *)(data + parts[i].sh_offset);
        const char *names = data + parts[parts[i].sh_link].sh_offset;
        for (size_t k = 0; k < parts[i].sh_size / sizeof *symbols; k++) {
            uint32_t *place = place_of(names + symbols[k].st_name);
            if (place) *place = symbols[k].st_value;
        }
    }
    munmap(data, (size_t)file.st_size);
    close(fd);
    number_at = chip_data(number_at);
    values_at = chip_data(values_at);
    result_at = chip_data(result_at);
    free_at = chip_data(free_at);
}

static void read_entries(const char *path, char *name)
{
    FILE *file = fopen(path, "r");
    if (!file || fscanf(file, "%63s", name) != 1) chip_fail("the list of entries cannot be read");
    struct entry *e = entries;
    while (entry_count < MOST_ENTRIES
           && fscanf(file, "%255s %d %u", e->symbol, &e->returns, &e->size) == 3) {
        e++;
        entry_count++;
    }
    fclose(file);
}

/* Endings. */

static void tell(int number, int access, uint32_t address, int argument, int64_t offset)
{
    report->signal = number;
    report->code = address < buffers_end && address == chip_stack() ? STACK_MET : ON_CHIP;
    report->access = access;
    report->address = address;
    report->instruction = chip_at();
    report->stack = chip_stack();
    report->argument = argument;
    report->offset = offset;
    report->state = 1;
}

static void end(int number, int access, uint32_t address, int argument, int64_t offset)
{
    tell(number, access, address, argument, offset);
    note_over();
    signal(number, SIG_DFL);
    raise(number);
    _exit(125);
}

void chip_end(int number, int how, uint32_t address) { end(number, how, address, -1, 0); }

static void ask(int number)
{
    (void)number;
    asked = 1;
}

void chip_access(int how, uint32_t address)
{
    chip_note(how, address);
    if (chip_common(how, address)) return;
    if (address > chip_last) end(SIGSEGV, how, address, -1, 0);
    if (address >= chip_first && (address < free_at || address >= chip_in_use())) return;
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

static void start(void)
{
    for (uint64_t n = 0; chip_at() != main_at; n++) {
        if (n > MOST_INSTRUCTIONS) chip_fail("the program does not reach its main");
        chip_step(0);
    }
    first_stack = chip_stack();
}

static struct cost call(unsigned number)
{
    struct cost cost = { 0 };
    uint32_t entry = entries[number].address, back = 0, sp_entry = 0, lowest = UINT32_MAX;
    uint64_t cycles = 0, count = 0;
    chip_set_stack(first_stack);
    chip_memory[number_at] = (uint8_t)number;
    chip_go(main_at);
    while (chip_at() != done_at) {
        uint32_t sp = chip_stack();
        if (sp < buffers_end) end(SIGSEGV, WRITE, sp, -1, 0);
        if (!back && chip_at() == entry) {
            back = chip_back();
            sp_entry = sp;
            cycles = chip_cycles();
        } else if (back && !cost.cycles && chip_at() == back && sp == sp_entry + chip_back_bytes()) {
            cost = (struct cost){ chip_cycles() - cycles, count, sp - lowest };
            note_over();
        }
        int inside = back && !cost.cycles;
        if (inside) {
            if (sp < lowest) lowest = sp;
            count++;
        }
        uint32_t at = chip_at() / 2;
        uint64_t before = chip_cycles();
        if (asked || count > MOST_INSTRUCTIONS) {
            while (!asked) pause();
            tell(0, 0, 0, -1, 0);
            note_over();
            _exit(125);
        }
        if (inside) note_begin();
        chip_step(inside);
        if (places && inside) {
            places[at].times++;
            places[at].cycles += chip_cycles() - before;
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

static void put_word(uint32_t at, uint32_t value)
{
    chip_memory[at] = (uint8_t)value;
    chip_memory[at + 1] = (uint8_t)(value >> 8);
}

/* Lays out a SET: head of worker.c. Returns the entry's number, -1 where there is no room. */
static int lay_out(const unsigned char *p)
{
    unsigned entry = (unsigned)number_at_bytes(&p, 2);
    argument_count = (unsigned)number_at_bytes(&p, 2);
    p++;
    int pattern = *p++;
    uint32_t at = free_at, value = values_at;
    memset(chip_memory + at, pattern, first_stack - at);
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
        a->at = at;
        memcpy(chip_memory + at, a->bytes, a->size);
        at += (uint32_t)a->size + GAP;
    }
    buffers_end = at;
    for (unsigned i = 0; i < argument_count; i++) {
        const struct argument *a = &arguments[i];
        int64_t said[2];
        if (a->kind == SCALAR) {
            memcpy(chip_memory + value, a->bytes, a->size);
            value += (uint32_t)a->size;
            continue;
        }
        if (a->kind == ALIAS) memcpy(said, a->bytes, sizeof said);
        put_word(value, a->kind == BUFFER ? a->at : (uint32_t)(arguments[said[0]].at + said[1]));
        value += 2;
    }
    return (int)entry;
}

static size_t put_result(const struct entry *entry, unsigned char *to)
{
    const unsigned char *from = chip_memory + result_at;
    if (entry->returns == NOTHING) return 0;
    if (entry->returns == VALUE) {
        memcpy(to, from, entry->size);
        return entry->size;
    }
    int64_t told[2] = { -2, 0 };
    uint32_t pointer = from[0] | (uint32_t)from[1] << 8;
    if (!pointer) told[0] = -1;
    for (unsigned i = 0; i < argument_count; i++)
        if (arguments[i].kind == BUFFER && pointer >= arguments[i].at
            && pointer <= arguments[i].at + arguments[i].size) {
            told[0] = (int64_t)i;
            told[1] = (int64_t)pointer - arguments[i].at;
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
            memcpy(at, chip_memory + arguments[i].at, arguments[i].size);
            at += arguments[i].size;
        }
    for (unsigned i = 0; i < watched_count; i++) {
        memcpy(at, chip_memory + (watched[i].offset & 0xffff), watched[i].size);
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
    size_t count = (chip_code_end + 1) / 2;
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
    if (op == 'N') payload = note_from(payload);
    if (op == 'R' || op == 'H') {
        (op == 'R' ? repeat : tell_places)(payload);
        return;
    }
    if (op != 'T' && op != 'C' && op != 'N') chip_fail("a request that chips do not take");
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
    if (argc != 6 || chdir(argv[5])) return 124;
    prctl(PR_SET_PDEATHSIG, SIGKILL);
    report = mmap(NULL, 4096, PROT_READ | PROT_WRITE, MAP_SHARED, REPORT_FD, 0);
    if (report == MAP_FAILED) return 124;
    signal(SIGXCPU, ask);
    read_entries(argv[1], name);
    read_symbols(argv[2]);
    chip_open(name, argv[2]);
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
