/* The measuring worker: calls entries of one build on request.
 *
 * Requests come on descriptor 0 and answers leave on the descriptor that was
 * 1 at the start; the code under study finds its standard streams elsewhere
 * and cannot disturb the talk. All numbers are little endian.
 *
 * Request: u8 op, u32 length, payload.  Answer: u8 status, u32 length, payload.
 *   P  prepare  u16 slot, u16 entry, u16 arguments, u8 tight, then for each:
 *               u8 kind (0 scalar, 1 buffer, 2 alias), u8 writable, u16 align,
 *               u64 size or index, bytes
 *   C  call     u16 slot                     -> result (16 bytes), written buffers
 *   K  calibrate u16 slot, u64 nanoseconds   -> u64 calls, u64 ns of the best batch of them
 *   V  visit    u16 slot, u64 calls, u32 samples
 *               -> u64 cpu ns, u64 involuntary switches, u64 ns of each sample
 *   Z  probe                                 -> u64 ns of a fixed piece of work
 *   Q  quit
 */
#define _GNU_SOURCE
#include "worker.h"

#include <errno.h>
#include <fcntl.h>
#include <sched.h>
#include <signal.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <time.h>
#include <unistd.h>

enum { MAX_ARGS = 64, MAX_SLOTS = 4096, PAGE = 4096 };

struct argument {
    int kind;
    int writable;
    size_t size;
    unsigned char *base;      /* what the entry gets, for a buffer */
    unsigned char *pristine;  /* its first contents */
    union { unsigned char bytes[16]; void *pointer; } value;
};

struct slot {
    const struct entry *entry;
    const void *volatile target;
    unsigned count;
    struct argument args[MAX_ARGS];
    void *passed[MAX_ARGS];
};

static struct slot *slots[MAX_SLOTS];
static int answer_fd;

static void die(int code) { _exit(code); }

static void read_all(void *to, size_t size)
{
    unsigned char *at = to;
    while (size) {
        ssize_t got = read(0, at, size);
        if (got < 0 && errno == EINTR) continue;
        if (got <= 0) die(got == 0 ? 0 : 120);
        at += got;
        size -= (size_t)got;
    }
}

static void write_all(const void *from, size_t size)
{
    const unsigned char *at = from;
    while (size) {
        ssize_t put = write(answer_fd, at, size);
        if (put < 0 && errno == EINTR) continue;
        if (put <= 0) die(121);
        at += put;
        size -= (size_t)put;
    }
}

static void answer(uint8_t status, uint32_t size)
{
    unsigned char head[5] = { status };
    memcpy(head + 1, &size, 4);
    write_all(head, 5);
}

static uint64_t now(clockid_t clock)
{
    struct timespec t;
    clock_gettime(clock, &t);
    return (uint64_t)t.tv_sec * 1000000000u + (uint64_t)t.tv_nsec;
}

static size_t pages(size_t size) { return (size + PAGE - 1) / PAGE * PAGE; }

/* A buffer between two pages that nobody may touch. Tight: its last byte is
 * the last before the closing page, so that reading past the end is caught;
 * otherwise it starts on a cache line. */
static unsigned char *buffer(size_t size, size_t align, int tight)
{
    size_t room = pages(size + 64) + PAGE;
    unsigned char *map = mmap(NULL, room + 2 * PAGE, PROT_NONE,
                              MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    if (map == MAP_FAILED || mprotect(map + PAGE, room, PROT_READ | PROT_WRITE)) die(122);
    size_t offset = tight ? room - size : 0;
    if (align > 1) offset -= offset % align;
    return map + PAGE + offset;
}

static void prepare(unsigned char *p)
{
    uint16_t index, entry, count;
    memcpy(&index, p, 2);
    memcpy(&entry, p + 2, 2);
    memcpy(&count, p + 4, 2);
    int tight = p[6];
    p += 7;
    if (index >= MAX_SLOTS || entry >= hot_anvil_entry_count || count > MAX_ARGS) die(123);
    struct slot *slot = slots[index] = calloc(1, sizeof *slot);
    if (!slot) die(122);
    slot->entry = &hot_anvil_entries[entry];
    slot->target = slot->entry->target;
    slot->count = count;
    for (unsigned i = 0; i < count; i++) {
        struct argument *a = &slot->args[i];
        uint16_t align;
        uint64_t size;
        a->kind = p[0];
        a->writable = p[1];
        memcpy(&align, p + 2, 2);
        memcpy(&size, p + 4, 8);
        p += 12;
        a->size = a->kind == 2 ? 0 : size;
        if (a->kind == 0) {
            memcpy(a->value.bytes, p, size);
        } else if (a->kind == 1) {
            a->base = buffer(size, align, tight);
            memcpy(a->base, p, size);
            if (a->writable) {
                a->pristine = malloc(size ? size : 1);
                if (!a->pristine) die(122);
                memcpy(a->pristine, p, size);
            }
            a->value.pointer = a->base;
        } else {
            a->value.bytes[0] = 0;
            a->size = 0;
            a->base = (unsigned char *)(uintptr_t)size; /* index, resolved below */
        }
        p += a->size;
        slot->passed[i] = a->value.bytes;
    }
    for (unsigned i = 0; i < count; i++)
        if (slot->args[i].kind == 2)
            slot->args[i].value.pointer = slot->args[(uintptr_t)slot->args[i].base].base;
    answer(0, 0);
}

static void restore(struct slot *slot)
{
    for (unsigned i = 0; i < slot->count; i++)
        if (slot->args[i].pristine)
            memcpy(slot->args[i].base, slot->args[i].pristine, slot->args[i].size);
}

static uint64_t batch(struct slot *slot, uint64_t calls, void *result)
{
    uint64_t start = now(CLOCK_MONOTONIC);
    slot->entry->call(&slot->target, slot->passed, calls, result);
    return now(CLOCK_MONOTONIC) - start;
}

/* A pointer differs between processes; where in which buffer it points does not. */
static void place_pointer(struct slot *slot, unsigned char *result)
{
    unsigned char *p;
    memcpy(&p, result, sizeof p);
    int64_t said[2] = { p ? -2 : -1, 0 };
    for (unsigned i = 0; i < slot->count; i++) {
        struct argument *a = &slot->args[i];
        if (a->kind == 1 && p >= a->base && p <= a->base + a->size) {
            said[0] = (int64_t)i;
            said[1] = p - a->base;
            break;
        }
    }
    memcpy(result, said, sizeof said);
}

static void call_once(struct slot *slot)
{
    unsigned char result[16] = { 0 };
    restore(slot);
    slot->entry->call(&slot->target, slot->passed, 1, result);
    if (slot->entry->returns == 2) place_pointer(slot, result);
    size_t size = sizeof result;
    for (unsigned i = 0; i < slot->count; i++)
        if (slot->args[i].pristine) size += slot->args[i].size;
    answer(0, (uint32_t)size);
    write_all(result, sizeof result);
    for (unsigned i = 0; i < slot->count; i++)
        if (slot->args[i].pristine) write_all(slot->args[i].base, slot->args[i].size);
}

static void calibrate(struct slot *slot, uint64_t wanted)
{
    unsigned char result[16];
    uint64_t calls = 1, best = 0;
    for (;;) {
        best = UINT64_MAX;
        for (int i = 0; i < 3; i++) {
            restore(slot);
            uint64_t took = batch(slot, calls, result);
            if (took < best) best = took;
        }
        if (best >= wanted / 2 || calls > (UINT64_C(1) << 40)) break;
        uint64_t grow = best ? wanted / best : 10;
        calls *= grow < 2 ? 2 : grow > 10 ? 10 : grow;
    }
    uint64_t said[2] = { calls, best };
    answer(0, sizeof said);
    write_all(said, sizeof said);
}

static void visit(struct slot *slot, uint64_t calls, uint32_t samples)
{
    static uint64_t said[2 + 1024];
    unsigned char result[16];
    struct rusage before, after;
    if (samples > 1024) die(123);
    getrusage(RUSAGE_SELF, &before);
    uint64_t cpu = now(CLOCK_THREAD_CPUTIME_ID);
    for (uint32_t i = 0; i < samples; i++) {
        restore(slot);
        said[2 + i] = batch(slot, calls, result);
    }
    said[0] = now(CLOCK_THREAD_CPUTIME_ID) - cpu;
    getrusage(RUSAGE_SELF, &after);
    said[1] = (uint64_t)(after.ru_nivcsw - before.ru_nivcsw);
    answer(0, (uint32_t)(sizeof(uint64_t) * (2 + samples)));
    write_all(said, sizeof(uint64_t) * (2 + samples));
}

/* Four chains of additions that the processor can run side by side: fast on a
 * quiet core, slower when a neighbour shares it. */
static void probe(void)
{
    uint64_t a = 1, b = 2, c = 3, d = 4;
    uint64_t start = now(CLOCK_MONOTONIC);
    for (int i = 0; i < 100000; i++)
        __asm__ volatile("add %0, %0\n\tadd %1, %1\n\tadd %2, %2\n\tadd %3, %3"
                         : "+r"(a), "+r"(b), "+r"(c), "+r"(d));
    uint64_t said = now(CLOCK_MONOTONIC) - start;
    answer(0, sizeof said);
    write_all(&said, sizeof said);
}

static void limit(int what, rlim_t most)
{
    struct rlimit now_limit;
    if (getrlimit(what, &now_limit)) return;
    if (now_limit.rlim_max != RLIM_INFINITY && most > now_limit.rlim_max)
        most = now_limit.rlim_max;
    now_limit.rlim_cur = most;
    setrlimit(what, &now_limit);
}

/* Arguments: CPU to stay on or -1, memory limit in bytes or 0. */
int main(int argc, char **argv)
{
    int cpu = argc > 1 ? atoi(argv[1]) : -1;
    unsigned long long memory = argc > 2 ? strtoull(argv[2], NULL, 10) : 0;
    answer_fd = fcntl(1, F_DUPFD_CLOEXEC, 100);
    int nothing = open("/dev/null", O_RDWR);
    if (answer_fd < 0 || nothing < 0) return 124;
    dup2(nothing, 1);
    signal(SIGXFSZ, SIG_IGN);
    prctl(PR_SET_PDEATHSIG, SIGKILL); /* never outlive who asked */
    limit(RLIMIT_CORE, 0);
    limit(RLIMIT_FSIZE, 1 << 20);
    if (memory) limit(RLIMIT_AS, memory);
    if (cpu >= 0) {
        cpu_set_t set;
        CPU_ZERO(&set);
        CPU_SET(cpu, &set);
        sched_setaffinity(0, sizeof set, &set);
    }
    for (;;) {
        unsigned char head[5];
        uint32_t size;
        uint16_t index;
        uint64_t number;
        uint32_t samples;
        read_all(head, 5);
        memcpy(&size, head + 1, 4);
        unsigned char *payload = malloc(size ? size : 1);
        if (!payload) die(122);
        read_all(payload, size);
        struct slot *slot = NULL;
        if (strchr("CKV", head[0])) {
            memcpy(&index, payload, 2);
            slot = index < MAX_SLOTS ? slots[index] : NULL;
            if (!slot) die(123);
        }
        switch (head[0]) {
        case 'P': prepare(payload); break;
        case 'C': call_once(slot); break;
        case 'K': memcpy(&number, payload + 2, 8); calibrate(slot, number); break;
        case 'V':
            memcpy(&number, payload + 2, 8);
            memcpy(&samples, payload + 10, 4);
            visit(slot, number, samples);
            break;
        case 'Z': probe(); break;
        case 'Q': return 0;
        default: die(123);
        }
        free(payload);
    }
}
