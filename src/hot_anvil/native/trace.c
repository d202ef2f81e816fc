/* Steps through one call on this processor itself, and records what each instruction changed.
 *
 * Arguments: the file that says where the code under study lies, 1 where the program is loaded
 * anywhere (else 0), the most steps, then the program and its arguments. The tape (tape.h) goes to
 * standard error, which the program itself does not get.
 *
 * The file: u64 the entry, u32 ranges, u32 functions, u32 places; of each range u64 first, u64 end;
 * of each function u64 its first instruction; of each place, in order, struct place. All are
 * addresses as in the program's file. Other code runs at full speed; what it wrote is found by
 * comparing all memory that can be written, but for the stack below the call.
 */
#define _GNU_SOURCE
#include "tape.h"

#include <cpuid.h>
#include <elf.h>
#include <errno.h>
#include <signal.h>
#include <stdio.h>
#include <sys/prctl.h>
#include <sys/ptrace.h>
#include <sys/uio.h>
#include <sys/user.h>
#include <sys/wait.h>

enum { STOP = 0xcc, NONE = 0xff, FROM_CODE = 0xfe, PLAIN = 17, WIDE = 32, WIDE_BYTES = 64 };
enum { MOST_TOUCHES = 3, MOST_PENDING = 1024, MOST_BYTES = 256 << 20, FRAME = 4096 };

struct touch { uint8_t stores, size, base, index, scale, segment, pad[2]; int64_t away; };
struct place { uint64_t at; uint8_t wide, touches, pad[6]; struct touch touch[MOST_TOUCHES]; };
struct range { uint64_t first, end; };
struct kept { uint64_t at; size_t size; unsigned char *bytes; };
struct stop { uint64_t at; long code; };

static pid_t child;
static struct user_regs_struct registers;
static uint64_t base, entry, most;
static uint32_t range_count, function_count, place_count;
static struct range *ranges;
static uint64_t *functions;
static struct place *places;
static unsigned char wide[WIDE][WIDE_BYTES];
static struct stop *stops;
static unsigned stop_count;
static uint64_t pending[MOST_PENDING][2]; /* where code beyond returns to, and the stack there */
static unsigned pending_count;

static void quit(int status)
{
    tape_flush(2);
    if (WIFEXITED(status)) exit(WEXITSTATUS(status));
    signal(WTERMSIG(status), SIG_DFL);
    raise(WTERMSIG(status));
    exit(125);
}

/* Goes on in one way until the program stops. Returns 0 at a trap, else the signal that waits. */
static int go(int how, int number)
{
    int status;
    if (ptrace(how, child, NULL, (void *)(intptr_t)number)) exit(124);
    if (waitpid(child, &status, 0) < 0) exit(124);
    if (!WIFSTOPPED(status)) quit(status);
    if (ptrace(PTRACE_GETREGS, child, NULL, &registers)) exit(124);
    return WSTOPSIG(status) == SIGTRAP ? 0 : WSTOPSIG(status);
}

static int signal_harmless(int number)
{
    return number == SIGALRM || number == SIGCHLD || number == SIGCONT || number == SIGWINCH
        || number == SIGPROF || number == SIGVTALRM;
}

static long peek(uint64_t at) { return ptrace(PTRACE_PEEKTEXT, child, (void *)at, NULL); }

static void poke(uint64_t at, long word)
{
    if (ptrace(PTRACE_POKETEXT, child, (void *)at, (void *)word)) exit(124);
}

static void stop_at(uint64_t at)
{
    for (unsigned i = 0; i < stop_count; i++)
        if (stops[i].at == at) return;
    long code = peek(at);
    stops[stop_count++] = (struct stop){ at, code };
    poke(at, (code & ~0xffl) | STOP);
}

static void no_stops(void)
{
    while (stop_count) {
        struct stop *one = &stops[--stop_count];
        poke(one->at, one->code);
    }
}

static size_t fetch(uint64_t at, void *to, size_t size)
{
    struct iovec mine = { to, size }, its = { (void *)at, size };
    ssize_t got = process_vm_readv(child, &mine, 1, &its, 1, 0);
    return got < 0 ? 0 : (size_t)got;
}

static int inside(uint64_t at)
{
    for (uint32_t i = 0; i < range_count; i++)
        if (at - base >= ranges[i].first && at - base < ranges[i].end) return 1;
    return 0;
}

static const struct place *place_of(uint64_t at)
{
    uint32_t low = 0, high = place_count;
    while (low < high) {
        uint32_t middle = (low + high) / 2;
        if (places[middle].at < at - base) low = middle + 1;
        else high = middle;
    }
    return low < place_count && places[low].at == at - base ? &places[low] : NULL;
}

/* Registers. */

static void plain_of(const struct user_regs_struct *r, uint64_t out[PLAIN])
{
    const uint64_t all[PLAIN] = { r->rax, r->rbx, r->rcx, r->rdx, r->rsi, r->rdi, r->rbp, r->rsp,
        r->r8, r->r9, r->r10, r->r11, r->r12, r->r13, r->r14, r->r15, r->eflags };
    memcpy(out, all, sizeof all);
}

/* Where the parts of wide registers lie in what the processor saves: "Intel 64 and IA-32
 * Architectures Software Developer's Manual", volume 1, chapter 13. */
static void read_wide(unsigned char to[WIDE][WIDE_BYTES])
{
    enum { SAVED = 160, STATE = 512, LEAF = 13, LOW = 1, MIDDLE = 2, HIGH = 6, MORE = 7 };
    static unsigned middle, high, more;
    static unsigned char area[16384];
    unsigned a, b, c, d;
    if (!middle) {
        middle = __get_cpuid_count(LEAF, MIDDLE, &a, &b, &c, &d) && a ? b : 1;
        high = __get_cpuid_count(LEAF, HIGH, &a, &b, &c, &d) && a ? b : 0;
        more = __get_cpuid_count(LEAF, MORE, &a, &b, &c, &d) && a ? b : 0;
    }
    struct iovec all = { area, sizeof area };
    uint64_t held;
    memset(to, 0, WIDE * WIDE_BYTES);
    if (ptrace(PTRACE_GETREGSET, child, (void *)NT_X86_XSTATE, &all)) return;
    memcpy(&held, area + STATE, 8);
    for (int i = 0; i < 16; i++) {
        if (held >> LOW & 1) memcpy(to[i], area + SAVED + 16 * i, 16);
        if (held >> MIDDLE & 1 && middle > 1) memcpy(to[i] + 16, area + middle + 16 * i, 16);
        if (held >> HIGH & 1 && high) memcpy(to[i] + 32, area + high + 32 * i, 32);
        if (held >> MORE & 1 && more) memcpy(to[16 + i], area + more + 64 * i, 64);
    }
}

static size_t register_bytes(int number) { return number == PLAIN - 1 ? 4 : 8; }

/* Those that differ from what was known; all of them where `every`. */
static void put_registers(uint64_t known[PLAIN], int look_wide, int every)
{
    static unsigned char now_wide[WIDE][WIDE_BYTES];
    static const uint64_t TRAP_FLAG = 0x100;
    uint64_t now[PLAIN];
    plain_of(&registers, now);
    now[PLAIN - 1] &= ~TRAP_FLAG;
    for (int i = 0; i < PLAIN; i++)
        if (every || now[i] != known[i]) tape_register((uint8_t)i, &now[i], register_bytes(i));
    memcpy(known, now, sizeof now);
    if (!look_wide) return;
    read_wide(now_wide);
    for (int i = 0; i < WIDE; i++)
        if (every || memcmp(now_wide[i], wide[i], WIDE_BYTES))
            tape_register((uint8_t)(PLAIN + i), now_wide[i], WIDE_BYTES);
    memcpy(wide, now_wide, sizeof wide);
}

/* Memory. */

static uint64_t address_of(const struct touch *t, const uint64_t r[PLAIN])
{
    uint64_t at = (uint64_t)t->away;
    if (t->base == FROM_CODE) at += base;
    else if (t->base != NONE) at += r[t->base];
    if (t->index != NONE) at += r[t->index] * t->scale;
    if (t->segment == 1) at += registers.fs_base;
    if (t->segment == 2) at += registers.gs_base;
    return at;
}

/* All that can be written, but for the stack below `low`; what is far above `high` there as well. */
static unsigned keep_memory(struct kept **out, uint64_t low, uint64_t high)
{
    char name[64], line[4096], may[8], file[4096];
    unsigned count = 0, room = 0;
    size_t total = 0;
    uint64_t first, end;
    snprintf(name, sizeof name, "/proc/%d/maps", (int)child);
    FILE *maps = fopen(name, "r");
    *out = NULL;
    while (maps && fgets(line, sizeof line, maps)) {
        int got = sscanf(line, "%lx-%lx %7s %*s %*s %*s %4095s", &first, &end, may, file);
        if (got < 3 || may[1] != 'w' || may[3] == 's') continue;
        if (first <= low && low < end) {
            first = low;
            if (high + FRAME < end) end = high + FRAME;
        }
        if (total + (end - first) > MOST_BYTES) continue;
        total += end - first;
        if (count == room) *out = realloc(*out, (room = 2 * room + 16) * sizeof **out);
        struct kept one = { first, end - first, malloc(end - first) };
        if (!*out || !one.bytes) exit(122);
        one.size = fetch(first, one.bytes, one.size);
        (*out)[count++] = one;
    }
    if (maps) fclose(maps);
    return count;
}

static void tell_changes(struct kept *all, unsigned count)
{
    for (unsigned i = 0; i < count; i++) {
        struct kept *one = &all[i];
        unsigned char *now = malloc(one->size + 1);
        if (!now) exit(122);
        size_t size = fetch(one->at, now, one->size);
        for (size_t at = 0; at < size; at++) {
            enum { BLOCK = 4096 };
            size_t block = size - at < BLOCK ? size - at : BLOCK;
            if (!memcmp(now + at, one->bytes + at, block)) {
                at += block - 1;
                continue;
            }
            while (now[at] == one->bytes[at]) at++;
            size_t from = at;
            while (at < size && now[at] != one->bytes[at]) at++;
            tape_access(1, one->at + from, one->bytes + from, now + from, at - from);
        }
        free(now);
        free(one->bytes);
    }
    free(all);
}

/* Steps. */

static int returned(uint64_t back, uint64_t stack)
{
    return registers.rip == back && registers.rsp == stack + 8;
}

/* Lets other code run until code under study goes on, or the call is over. Returns a signal. */
static int run_beyond(uint64_t back, uint64_t stack)
{
    struct kept *kept;
    unsigned count = keep_memory(&kept, registers.rsp, stack);
    uint64_t to = 0;
    fetch(registers.rsp, &to, 8);
    if (inside(to) && pending_count < MOST_PENDING) {
        pending[pending_count][0] = to;
        pending[pending_count++][1] = registers.rsp;
    }
    for (uint32_t i = 0; i < function_count; i++) stop_at(functions[i] + base);
    for (unsigned i = 0; i < pending_count; i++) stop_at(pending[i][0]);
    stop_at(back);
    int number = 0;
    for (;;) {
        number = go(PTRACE_CONT, number);
        if (number && !signal_harmless(number)) break;
        if (number) continue;
        uint64_t at = registers.rip - 1, sp = registers.rsp;
        int known = at == back && sp == stack + 8;
        for (uint32_t i = 0; i < function_count; i++) known |= at == functions[i] + base;
        while (pending_count && pending[pending_count - 1][1] < sp && !known)
            known = pending[--pending_count][0] == at;
        registers.rip = at;
        if (ptrace(PTRACE_SETREGS, child, NULL, &registers)) exit(124);
        if (known) break;
        no_stops(); /* it went by a place where it is to stop, in a call of its own */
        number = go(PTRACE_SINGLESTEP, 0);
        for (uint32_t i = 0; i < function_count; i++) stop_at(functions[i] + base);
        for (unsigned i = 0; i < pending_count; i++) stop_at(pending[i][0]);
        stop_at(back);
    }
    no_stops();
    tell_changes(kept, count);
    return number;
}

static void trace_call(void)
{
    static unsigned char before[MOST_TOUCHES][256], after[256];
    uint64_t known[PLAIN], stack = registers.rsp, back = 0, steps = 0;
    fetch(stack, &back, 8);
    tape_begin(base);
    put_registers(known, 1, 1);
    tape_end(0, 2);
    while (!returned(back, stack)) {
        uint64_t at = registers.rip, where[MOST_TOUCHES];
        size_t sizes[MOST_TOUCHES];
        const struct place *place = place_of(at);
        int touches = place ? place->touches : 0, look_wide = !place || place->wide, flags = 0;
        if (steps++ == most) {
            tape_begin(at - base);
            tape_end(TAPE_FULL, 2);
            tape_flush(2);
            exit(0); /* what comes of the call is known from one that was not recorded */
        }
        for (int i = 0; i < touches; i++) {
            const struct touch *t = &place->touch[i];
            where[i] = address_of(t, known);
            sizes[i] = fetch(where[i], before[i], t->size);
        }
        tape_begin(at - base);
        int number = go(PTRACE_SINGLESTEP, 0);
        while (number && signal_harmless(number)) number = go(PTRACE_SINGLESTEP, number);
        for (int i = 0; i < touches && !number; i++) {
            size_t size = fetch(where[i], after, sizes[i]);
            int stores = place->touch[i].stores;
            tape_access(stores, where[i], stores ? before[i] : NULL, stores ? after : before[i], size);
        }
        if (!number && !returned(back, stack) && !inside(registers.rip)) {
            flags = TAPE_BEYOND;
            look_wide = 1;
            number = run_beyond(back, stack);
        }
        put_registers(known, look_wide, 0);
        tape_end(flags, 2);
        if (number) { /* it ends here, or in a handler of its own */
            tape_flush(2);
            ptrace(PTRACE_CONT, child, NULL, (void *)(intptr_t)number);
            return;
        }
    }
}

/* Where the program was loaded. */
static uint64_t base_of(const char *path)
{
    char name[64], line[4096], real[4096];
    unsigned long first = 0;
    snprintf(name, sizeof name, "/proc/%d/maps", (int)child);
    FILE *maps = fopen(name, "r");
    if (!maps || !realpath(path, real)) exit(124);
    while (!first && fgets(line, sizeof line, maps)) {
        line[strcspn(line, "\n")] = 0;
        const char *file = strchr(line, '/');
        if (file && !strcmp(file, real)) first = strtoul(line, NULL, 16);
    }
    fclose(maps);
    return first;
}

static void *read_some(FILE *file, uint32_t count, size_t size)
{
    void *made = calloc(count + 1, size);
    if (!made || fread(made, size, count, file) != count) exit(124);
    return made;
}

static void read_plan(const char *path)
{
    FILE *file = fopen(path, "rb");
    if (!file || fread(&entry, 8, 1, file) != 1 || fread(&range_count, 4, 1, file) != 1
        || fread(&function_count, 4, 1, file) != 1 || fread(&place_count, 4, 1, file) != 1)
        exit(124);
    ranges = read_some(file, range_count, sizeof *ranges);
    functions = read_some(file, function_count, sizeof *functions);
    places = read_some(file, place_count, sizeof *places);
    stops = calloc(function_count + MOST_PENDING + 2, sizeof *stops);
    fclose(file);
    if (!stops) exit(122);
}

int main(int argc, char **argv)
{
    if (argc < 5) return 124;
    read_plan(argv[1]);
    most = strtoull(argv[3], NULL, 10);
    prctl(PR_SET_PDEATHSIG, SIGKILL);
    child = fork();
    if (!child) {
        prctl(PR_SET_PDEATHSIG, SIGKILL);
        FILE *nowhere = fopen("/dev/null", "w");
        if (nowhere) dup2(fileno(nowhere), 2);
        if (ptrace(PTRACE_TRACEME, 0, NULL, NULL)) _exit(124);
        execv(argv[4], argv + 4);
        _exit(124);
    }
    int status;
    if (waitpid(child, &status, 0) < 0 || !WIFSTOPPED(status)) return 124;
    ptrace(PTRACE_SETOPTIONS, child, NULL, (void *)PTRACE_O_EXITKILL);
    if (atoi(argv[2])) base = base_of(argv[4]);
    stop_at(entry + base);
    int number = 0;
    do number = go(PTRACE_CONT, number);
    while (number || registers.rip != entry + base + 1);
    no_stops();
    registers.rip = entry + base;
    if (ptrace(PTRACE_SETREGS, child, NULL, &registers)) return 124;
    trace_call();
    tape_flush(2);
    close(2);
    ptrace(PTRACE_DETACH, child, NULL, NULL);
    do
        if (waitpid(child, &status, 0) < 0) return 124;
    while (WIFSTOPPED(status) && !ptrace(PTRACE_CONT, child, NULL, (void *)(intptr_t)WSTOPSIG(status)));
    quit(status);
}
