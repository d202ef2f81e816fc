/* The worker: calls entries of one build on request, to check them and to time them.
 *
 * Requests come on descriptor 0 and answers leave on descriptor 1 as they are at the start; the
 * code under study finds its standard streams elsewhere and cannot disturb the talk. All numbers
 * are little endian.
 *
 * Request: u8 op, u32 length, payload.  Answer: u8 status, u32 length, payload.
 *   P  prepare  u16 slot, u16 library, SET
 *   T  try      SET                          -> OUTPUT; one call on an input set of its own
 *   G  globals u8 put back, u32 how many, of each: u64 offset, u64 size -> nothing; outputs hold them from now on
 *   R  repeat   u32 calls, SET               -> u32 distinct, u32 count of each, OUTPUT of each
 *   L  load      u16 library, path        -> nothing; status 1 and why where it cannot be loaded
 *   J  join      u16 slot, u16 library, u16 entry, u16 slot whose values it shares
 *   F  first     u16 slot                 -> u64 ns of one call, u64 pages it had to fetch
 *   S  state     u16 slot                 -> u8 whether a call reads what an earlier one wrote
 *   K  calibrate u16 slot, u64 ns, u8 alone -> u64 calls, u64 ns of the best batch of them, u64 copies
 *               of the values that are called in a row, 0 for none
 *   V  batches   u32 how many, of each: u16 slot, u16 samples, u8 alone, u64 calls
 *               -> of each: u64 ns of the probe, u64 ns a restoring took, u64 waits,
 *                  and of each sample u64 ns, u64 cpu ns, u64 ns off the CPU
 *   W  threads     see threads.c
 *   H  sample    see sampling.c
 *   X  launch    see launch.c
 *   Y  reached                        -> see reach.c
 *   Z  probe                          -> u64 ns of a fixed piece of work
 *   Q  quit
 * SET: u16 entry, u16 arguments, u8 where buffers lie (0 cache line, 1 tight at their end, 2 tight
 * at their start), u8 pattern around them (0 none; odd: random bytes below the stack, other ones
 * for each call; even: zeros there), then for each argument:
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
#include <unistd.h>

enum { MAX_SLOTS = 65535, MAX_LIBRARIES = 4096, MAX_KINDS = 16, REPORT_FD = 3, TALK_FD = 100 };

static struct slot *slots[MAX_SLOTS];
static struct library libraries[MAX_LIBRARIES]; /* the first: what this program is linked with */

static struct slot *new_slot(const unsigned char *payload)
{
    uint16_t index;
    memcpy(&index, payload, 2);
    if (index >= MAX_SLOTS || slots[index]) die(123);
    slots[index] = calloc(1, sizeof *slots[index]);
    if (!slots[index]) die(122);
    return slots[index];
}

static const struct entry *entry_of(uint16_t library, uint16_t entry)
{
    if (library >= MAX_LIBRARIES || entry >= libraries[library].count) die(123);
    return &libraries[library].entries[entry];
}

static struct slot *slot_of(const unsigned char *payload)
{
    uint16_t index;
    memcpy(&index, payload, 2);
    if (index >= MAX_SLOTS || !slots[index]) die(123);
    return slots[index];
}

static void prepare(const unsigned char *p)
{
    uint16_t library, entry;
    memcpy(&library, p + 2, 2);
    memcpy(&entry, p + 4, 2);
    slot_make(new_slot(p), entry_of(library, entry), p + 4, 1);
    answer(0, 0);
}

static void join(const unsigned char *p)
{
    uint16_t said[2];
    memcpy(said, p + 2, sizeof said);
    slot_join(new_slot(p), entry_of(said[0], said[1]), slot_of(p + 6));
    answer(0, 0);
}

/* The path needs no end of its own: the payload is followed by a zero. */
static void load(const unsigned char *p)
{
    uint16_t index;
    memcpy(&index, p, 2);
    if (index >= MAX_LIBRARIES || libraries[index].count || !library_open) die(123);
    const char *why = library_open((const char *)p + 2, &libraries[index]);
    answer(why != NULL, why ? (uint32_t)strlen(why) : 0);
    if (why) write_all(why, strlen(why));
}

/* What lies in memory fresh from malloc is as unpredictable as what lies on the stack, or zero as
 * well: the C library writes the complement. */
static void perturb(const unsigned char *set) { mallopt(M_PERTURB, set[5] & 1 ? set[5] : 0xff); }

static const struct entry *own_entry(const unsigned char *set)
{
    uint16_t entry;
    memcpy(&entry, set, 2);
    return entry_of(0, entry);
}

static void try_once(const unsigned char *set)
{
    static struct slot slot;
    keep_talk();
    perturb(set);
    slot_make(&slot, own_entry(set), set, 0);
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
    keep_talk();
    perturb(p + 4);
    slot_make(&slot, own_entry(p + 4), p + 4, 1);
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

static void serve(int op, unsigned char *payload)
{
    switch (op) {
    case 'P': prepare(payload); break;
    case 'T': try_once(payload); break;
    case 'R': repeat(payload); break;
    case 'G': watch_variables(payload); break;
    case 'L': load(payload); break;
    case 'J': join(payload); break;
    case 'F': time_first(slot_of(payload)); break;
    case 'S': find_state(slot_of(payload)); break;
    case 'K': calibrate(slot_of(payload), payload + 2); break;
    case 'V': time_batches(payload, slot_of); break;
    case 'W': threads_make(slot_of(payload), payload + 2); break;
    case 'H': sample_calls(slot_of(payload), payload + 2); break;
    case 'X':
        if (!launch_program) die(123);
        launch_program(payload);
        break;
    case 'Y': tell_reached(); break;
    case 'Z': time_probe(); break;
    case 'Q': die(0); break;
    default: die(123);
    }
}

/* Arguments: CPU to stay on or -1, memory limit in bytes or 0, folder to work in. */
int main(int argc, char **argv)
{
    if (__msan_scoped_disable_interceptor_checks) __msan_scoped_disable_interceptor_checks();
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
    if (&hot_anvil_entry_count)
        libraries[0] = (struct library){ hot_anvil_entries, hot_anvil_entry_count };
    crash_reports(REPORT_FD, 1);
    size_t room = 0;
    unsigned char *payload = NULL;
    for (;;) {
        unsigned char head[5];
        uint32_t size;
        read_all(head, 5);
        memcpy(&size, head + 1, 4);
        if (size >= room) {
            free(payload);
            room = (size_t)size + 1;
            if (!(payload = malloc(room))) die(122);
        }
        read_all(payload, size);
        payload[size] = 0;
        serve(head[0], payload);
    }
}
