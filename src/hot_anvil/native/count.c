/* A plugin for QEMU's user emulation: counts the instructions that calls of an entry execute.
 *
 *   -plugin count.so,on=LOW-HIGH,off=LOW-HIGH,out=FILE[,where=FILE]
 *                                                     (offsets from the program's first code)
 *
 * Counting goes on from when the calling loop (on) runs to when the code that called it (off) runs
 * again; neither is counted itself. A repeated string instruction counts once, as on a processor.
 * Every stretch adds a line with its number to the file, which is opened anew each time: the
 * program closes descriptors that it does not know. The other file is written anew by each: for
 * each instruction that the stretch executed, its offset in hex and how often.
 *
 * No header of QEMU is packaged, so the few functions used are declared here (version 1 of its
 * plugin interface).
 */
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

typedef uint64_t plugin;
struct block;
struct instruction;
extern void qemu_plugin_register_vcpu_tb_trans_cb(plugin, void (*)(plugin, struct block *));
extern size_t qemu_plugin_tb_n_insns(const struct block *);
extern struct instruction *qemu_plugin_tb_get_insn(const struct block *, size_t);
extern uint64_t qemu_plugin_insn_vaddr(const struct instruction *);
extern const void *qemu_plugin_insn_data(const struct instruction *);
extern size_t qemu_plugin_insn_size(const struct instruction *);
extern uint64_t qemu_plugin_start_code(void);
extern void qemu_plugin_register_vcpu_insn_exec_cb(struct instruction *,
                                                   void (*)(unsigned, void *), int, void *);

#define SHOWN __attribute__((visibility("default")))
#ifndef API
#define API 1
#endif
SHOWN int qemu_plugin_version = API;

struct range { uint64_t low, high; };

static struct range on, off;
static char out[4096], where[4096];
static int counting;
static uint64_t counted, steps, last_repeated, last_repeated_step;

/* Every instruction that was translated, by its offset. */
struct place { uint64_t offset, times; struct place *next; };
enum { ROWS = 1 << 14 };
static struct place *places[ROWS];

static struct place *place_of(uint64_t offset)
{
    struct place **row = &places[offset / 2 % ROWS];
    for (struct place *known = *row; known; known = known->next)
        if (known->offset == offset) return known;
    struct place *made = calloc(1, sizeof *made);
    if (!made) abort();
    *made = (struct place){ offset, 0, *row };
    return *row = made;
}

static void tell_places(void)
{
    FILE *file = *where ? fopen(where, "w") : NULL;
    if (!file) return;
    for (int row = 0; row < ROWS; row++)
        for (struct place *p = places[row]; p; p = p->next) {
            if (p->times)
                fprintf(file, "%llx %llu\n", (unsigned long long)p->offset,
                        (unsigned long long)p->times);
            p->times = 0;
        }
    fclose(file);
}

static int inside(uint64_t offset, struct range range)
{
    return offset >= range.low && offset < range.high;
}

static void starts(unsigned cpu, void *unused)
{
    (void)cpu; (void)unused;
    counting = 1;
}

static void stops(unsigned cpu, void *unused)
{
    (void)cpu; (void)unused;
    if (!counting) return;
    FILE *file = fopen(out, "a");
    if (file) {
        fprintf(file, "%llu\n", (unsigned long long)counted);
        fclose(file);
    }
    tell_places();
    counting = 0;
    counted = 0;
}

static void one(unsigned cpu, void *unused)
{
    (void)cpu; (void)unused;
    steps++;
    counted += (uint64_t)counting;
}

static void one_there(unsigned cpu, void *place)
{
    one(cpu, NULL);
    ((struct place *)place)->times += (uint64_t)counting;
}

static void repeated(unsigned cpu, void *place)
{
    (void)cpu;
    struct place *there = place;
    steps++;
    int goes_on = last_repeated == there->offset && last_repeated_step + 1 == steps;
    counted += (uint64_t)(counting && !goes_on);
    there->times += (uint64_t)(counting && !goes_on);
    last_repeated = there->offset;
    last_repeated_step = steps;
}

/* A string instruction of x86 with a prefix that repeats it. */
static int repeats(const struct instruction *instruction)
{
#ifdef REPEATS
    const unsigned char *bytes = qemu_plugin_insn_data(instruction);
    size_t size = qemu_plugin_insn_size(instruction);
    int prefix = 0;
    for (size_t i = 0; i < size; i++) {
        unsigned char byte = bytes[i];
        if (byte == 0xf2 || byte == 0xf3) prefix = 1;
        else if (byte != 0x66 && byte != 0x67 && (byte & 0xf0) != 0x40)
            return prefix && ((byte >= 0xa4 && byte <= 0xa7) || (byte >= 0xaa && byte <= 0xaf) ||
                              (byte >= 0x6c && byte <= 0x6f));
    }
#else
    (void)instruction;
#endif
    return 0;
}

static void translated(plugin id, struct block *block)
{
    (void)id;
    size_t count = qemu_plugin_tb_n_insns(block);
    for (size_t i = 0; i < count; i++) {
        struct instruction *instruction = qemu_plugin_tb_get_insn(block, i);
        uint64_t address = qemu_plugin_insn_vaddr(instruction);
        uint64_t offset = address - qemu_plugin_start_code();
        int again = repeats(instruction);
        void (*then)(unsigned, void *) = inside(offset, on) ? starts
            : inside(offset, off) ? stops : again ? repeated : *where ? one_there : one;
        struct place *place = again || *where ? place_of(offset) : NULL;
        qemu_plugin_register_vcpu_insn_exec_cb(instruction, then, 0, place);
    }
}

static int read_range(const char *text, struct range *range)
{
    char *end;
    range->low = strtoull(text, &end, 16);
    if (*end != '-') return 0;
    range->high = strtoull(end + 1, &end, 16);
    return !*end;
}

SHOWN int qemu_plugin_install(plugin id, const void *info, int argc, char **argv)
{
    (void)info;
    for (int i = 0; i < argc; i++) {
        if (!strncmp(argv[i], "out=", 4)) snprintf(out, sizeof out, "%s", argv[i] + 4);
        else if (!strncmp(argv[i], "where=", 6)) snprintf(where, sizeof where, "%s", argv[i] + 6);
        else if (!strncmp(argv[i], "on=", 3)) { if (!read_range(argv[i] + 3, &on)) return -1; }
        else if (!strncmp(argv[i], "off=", 4)) { if (!read_range(argv[i] + 4, &off)) return -1; }
        else return -1;
    }
    qemu_plugin_register_vcpu_tb_trans_cb(id, translated);
    return 0;
}
