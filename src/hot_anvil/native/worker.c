/* The worker: calls entries of one build on request, to check them and to time them.
 *
 * Requests come on descriptor 0 and answers leave on descriptor 1 as they are at the start; the
 * code under study finds its standard streams elsewhere and cannot disturb the talk. All numbers
 * are little endian.
 *
 * Request: u8 op, u32 length, payload.  Answer: u8 status, u32 length, payload.
 *   P  prepare  u16 slot, SET
 *   T  try      SET                          -> OUTPUT; one call on an input set of its own
 *   R  repeat   u32 calls, SET               -> u32 distinct, u32 count of each, OUTPUT of each
 *   K  calibrate u16 slot, u64 nanoseconds   -> u64 calls, u64 ns of the best batch of them
 *   V  visit    u16 slot, u64 calls, u32 samples
 *               -> u64 cpu ns, u64 involuntary switches, u64 ns of each sample
 *   Z  probe                                 -> u64 ns of a fixed piece of work
 *   Q  quit
 * SET: u16 entry, u16 arguments, u8 where buffers lie (0 cache line, 1 tight at their end, 2 tight
 * at their start), u8 pattern around them and below the stack (0 none), then for each argument:
 * u8 kind (0 scalar, 1 buffer, 2 alias), u8 writable, u8 aligned to no more than align, u16 align,
 * u64 size, bytes (of an alias: i64 argument, i64 bytes into its buffer).
 * OUTPUT: head of slots.c.
 */
#define _GNU_SOURCE
#include "worker.h"

#include <errno.h>
#include <fcntl.h>
#include <malloc.h>
#include <sched.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>

enum { MAX_SLOTS = 4096, MAX_KINDS = 16, REPORT_FD = 3, TALK_FD = 100 };

static struct slot *slots[MAX_SLOTS];
static int request_fd, answer_fd;

void die(int code) { _exit(code); }

static void read_all(void *to, size_t size)
{
    unsigned char *at = to;
    while (size) {
        ssize_t got = read(request_fd, at, size);
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

static void prepare(const unsigned char *p)
{
    uint16_t index;
    memcpy(&index, p, 2);
    if (index >= MAX_SLOTS || slots[index]) die(123);
    slots[index] = calloc(1, sizeof *slots[index]);
    if (!slots[index]) die(122);
    slot_make(slots[index], p + 2, 1);
    answer(0, 0);
}

/* What lies in memory fresh from malloc is as unpredictable as what lies on the stack. */
static void perturb(const unsigned char *set) { mallopt(M_PERTURB, set[5]); }

static void try_once(const unsigned char *set)
{
    static struct slot slot;
    perturb(set);
    slot_make(&slot, set, 0);
    size_t size = slot_output_size(&slot);
    unsigned char *output = malloc(size);
    if (!output) die(122);
    slot_call(&slot, output);
    answer(0, (uint32_t)size);
    write_all(output, size);
    free(output);
    slot_free(&slot);
}

/* Calls again and again on the same values, and counts how often each output came. What comes
 * after MAX_KINDS others is counted as the last of them. */
static void repeat(const unsigned char *p)
{
    static struct slot slot;
    uint32_t calls, kinds = 0, counts[MAX_KINDS] = { 0 };
    memcpy(&calls, p, 4);
    perturb(p + 4);
    slot_make(&slot, p + 4, 1);
    size_t size = slot_output_size(&slot);
    unsigned char *outputs = calloc(MAX_KINDS, size);
    if (!outputs) die(122);
    for (uint32_t i = 0; i < calls; i++) {
        uint32_t kind = 0;
        unsigned char *output = outputs + size * (kinds < MAX_KINDS ? kinds : MAX_KINDS - 1);
        if (i) slot_restore(&slot);
        slot_call(&slot, output);
        while (kind < kinds && memcmp(outputs + size * kind, output, size)) kind++;
        if (kind == kinds && kinds < MAX_KINDS) kinds++;
        counts[kind < MAX_KINDS ? kind : MAX_KINDS - 1]++;
    }
    answer(0, (uint32_t)(4 + kinds * (4 + size)));
    write_all(&kinds, 4);
    write_all(counts, 4 * kinds);
    write_all(outputs, size * kinds);
    free(outputs);
    slot_free(&slot);
}

static uint64_t batch(struct slot *slot, uint64_t calls, void *result)
{
    uint64_t start = now(CLOCK_MONOTONIC);
    slot->entry->call(&slot->target, slot->passed, calls, result);
    return now(CLOCK_MONOTONIC) - start;
}

static void calibrate(struct slot *slot, uint64_t wanted)
{
    unsigned char result[MAX_RESULT];
    uint64_t calls = 1, best = 0;
    for (;;) {
        best = UINT64_MAX;
        for (int i = 0; i < 3; i++) {
            slot_restore(slot);
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
    unsigned char result[MAX_RESULT];
    struct rusage before, after;
    if (samples > 1024) die(123);
    getrusage(RUSAGE_SELF, &before);
    uint64_t cpu = now(CLOCK_THREAD_CPUTIME_ID);
    for (uint32_t i = 0; i < samples; i++) {
        slot_restore(slot);
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

/* Take the talk away from the descriptors that the code under study uses. */
static void move_talk(void)
{
    request_fd = fcntl(0, F_DUPFD_CLOEXEC, TALK_FD);
    answer_fd = fcntl(1, F_DUPFD_CLOEXEC, TALK_FD);
    int nothing = open("/dev/null", O_RDWR | O_CLOEXEC);
    if (request_fd < 0 || answer_fd < 0 || nothing < 0) die(124);
    dup2(nothing, 0);
    dup2(nothing, 1);
    close(nothing);
}

/* What whoever started us had open is not for the code under study. */
static void close_others(void)
{
#ifdef SYS_close_range
    if (!syscall(SYS_close_range, REPORT_FD + 1, ~0U, 0)) return;
#endif
    for (int fd = REPORT_FD + 1; fd < 1024; fd++) close(fd);
}

static struct slot *slot_of(const unsigned char *payload)
{
    uint16_t index;
    memcpy(&index, payload, 2);
    if (index >= MAX_SLOTS || !slots[index]) die(123);
    return slots[index];
}

static void serve(int op, const unsigned char *payload)
{
    uint64_t number;
    uint32_t samples;
    switch (op) {
    case 'P': prepare(payload); break;
    case 'T': try_once(payload); break;
    case 'R': repeat(payload); break;
    case 'K': memcpy(&number, payload + 2, 8); calibrate(slot_of(payload), number); break;
    case 'V':
        memcpy(&number, payload + 2, 8);
        memcpy(&samples, payload + 10, 4);
        visit(slot_of(payload), number, samples);
        break;
    case 'Z': probe(); break;
    case 'Q': die(0);
    default: die(123);
    }
}

/* Arguments: CPU to stay on or -1, memory limit in bytes or 0, folder to work in. */
int main(int argc, char **argv)
{
    if (argc != 4 || chdir(argv[3])) return 124;
    close_others();
    int cpu = atoi(argv[1]);
    unsigned long long memory = strtoull(argv[2], NULL, 10);
    move_talk();
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
    watch_start(REPORT_FD, 1);
    size_t room = 0;
    unsigned char *payload = NULL;
    for (;;) {
        unsigned char head[5];
        uint32_t size;
        read_all(head, 5);
        memcpy(&size, head + 1, 4);
        if (size > room) {
            free(payload);
            room = size;
            if (!(payload = malloc(room))) die(122);
        }
        read_all(payload, size);
        serve(head[0], payload);
    }
}
