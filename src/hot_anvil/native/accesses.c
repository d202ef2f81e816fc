/* A plugin for QEMU: logs what memory a call that is stepped through reads and writes.
 *
 *   -plugin accesses.so,own=LOW-HIGH,...,off=LOW-HIGH
 *
 * `own` is the code under study, `off` where the code that called it goes on; addresses in hex. The
 * emulator logs its registers before each instruction of the code under study; after each, this
 * adds a line for each access: "R" or "W", the address in hex, the bytes in hex as they are after
 * it. What other code writes meanwhile comes as "O". The log is standard error, made to be written
 * in large pieces.
 *
 * No header of QEMU is packaged, so the few functions used are declared here. Where memory lies in
 * the emulator is known by symbols that it exports; without them there are no bytes.
 */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <stdbool.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

typedef uint64_t plugin;
struct block;
struct instruction;
typedef uint32_t access_kind;
extern void qemu_plugin_register_vcpu_tb_trans_cb(plugin, void (*)(plugin, struct block *));
extern size_t qemu_plugin_tb_n_insns(const struct block *);
extern struct instruction *qemu_plugin_tb_get_insn(const struct block *, size_t);
extern uint64_t qemu_plugin_insn_vaddr(const struct instruction *);
extern void qemu_plugin_register_vcpu_insn_exec_cb(struct instruction *,
                                                   void (*)(unsigned, void *), int, void *);
extern void qemu_plugin_register_vcpu_mem_cb(struct instruction *,
                                             void (*)(unsigned, access_kind, uint64_t, void *),
                                             int flags, int which, void *);
extern unsigned qemu_plugin_mem_size_shift(access_kind);
extern bool qemu_plugin_mem_is_store(access_kind);
extern void qemu_plugin_outs(const char *);

#define SHOWN __attribute__((visibility("default")))
#ifndef API
#define API 1
#endif
SHOWN int qemu_plugin_version = API;

enum { MOST_RANGES = 256, WRITES = 2, BOTH = 3, MOST_BYTES = 64 };
struct range { uint64_t low, high; };

static struct range own[MOST_RANGES], off;
static unsigned own_count;
static int inside;
static uint64_t *guest_base;
static void (*read_physical)(uint64_t, void *, uint64_t, bool);

static void starts(unsigned cpu, void *unused)
{
    (void)cpu; (void)unused;
    inside = 1;
}

static void stops(unsigned cpu, void *unused)
{
    (void)cpu; (void)unused;
    inside = 0;
}

static void tell(char word, access_kind kind, uint64_t address)
{
    char line[64 + 2 * MOST_BYTES];
    unsigned char bytes[MOST_BYTES];
    unsigned size = 1u << qemu_plugin_mem_size_shift(kind);
    int at = sprintf(line, "%c %llx ", word, (unsigned long long)address);
    if (size > MOST_BYTES) size = MOST_BYTES;
    if (read_physical) read_physical(address, bytes, size, false);
    else memcpy(bytes, (const void *)(uintptr_t)((guest_base ? *guest_base : 0) + address), size);
    for (unsigned i = 0; i < size; i++) at += sprintf(line + at, "%02x", bytes[i]);
    strcpy(line + at, "\n");
    qemu_plugin_outs(line);
}

static void accessed(unsigned cpu, access_kind kind, uint64_t address, void *unused)
{
    (void)cpu; (void)unused;
    tell(qemu_plugin_mem_is_store(kind) ? 'W' : 'R', kind, address);
}

static void written_beyond(unsigned cpu, access_kind kind, uint64_t address, void *unused)
{
    (void)cpu; (void)unused;
    if (inside) tell('O', kind, address);
}

static int is_own(uint64_t at)
{
    for (unsigned i = 0; i < own_count; i++)
        if (at >= own[i].low && at < own[i].high) return 1;
    return 0;
}

static void translated(plugin id, struct block *block)
{
    (void)id;
    size_t count = qemu_plugin_tb_n_insns(block);
    for (size_t i = 0; i < count; i++) {
        struct instruction *one = qemu_plugin_tb_get_insn(block, i);
        uint64_t at = qemu_plugin_insn_vaddr(one);
        if (at >= off.low && at < off.high) {
            qemu_plugin_register_vcpu_insn_exec_cb(one, stops, 0, NULL);
        } else if (is_own(at)) {
            qemu_plugin_register_vcpu_insn_exec_cb(one, starts, 0, NULL);
            qemu_plugin_register_vcpu_mem_cb(one, accessed, 0, BOTH, NULL);
        } else {
            qemu_plugin_register_vcpu_mem_cb(one, written_beyond, 0, WRITES, NULL);
        }
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
        if (!strncmp(argv[i], "off=", 4)) {
            if (!read_range(argv[i] + 4, &off)) return -1;
        } else if (!strncmp(argv[i], "own=", 4)) {
            if (own_count == MOST_RANGES || !read_range(argv[i] + 4, &own[own_count++])) return -1;
        } else {
            return -1;
        }
    }
    setvbuf(stderr, NULL, _IOFBF, 1 << 16);
    guest_base = dlsym(RTLD_DEFAULT, "guest_base");
    *(void **)&read_physical = dlsym(RTLD_DEFAULT, "cpu_physical_memory_rw");
    qemu_plugin_register_vcpu_tb_trans_cb(id, translated);
    return 0;
}
