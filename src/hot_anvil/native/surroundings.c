/* What a call leaves changed in its process, other than results: what a caller relies on.
 *
 * Bits of what differs after a call: 1 how floats are rounded or trapped, 2 values on the x87
 * stack (MMX registers lie there as well), 4 the direction of string instructions, 8 blocked
 * signals, 16 the working folder, 32 the environment, 64 open descriptors (128: interrupts,
 * which only chips have: board/worker.c). What can be put back
 * is put back, so that the next call finds what this one found.
 */
#define _GNU_SOURCE
#include "worker.h"

#include <fcntl.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

enum { FLOATS = 1, X87 = 2, DIRECTION = 4, SIGNALS = 8, FOLDER = 16, ENVIRONMENT = 32, FILES = 64 };
enum { DESCRIPTORS = 64 };

struct state {
    uint64_t floats, files, environment;
    int on_x87, backwards;
    sigset_t signals;
    struct stat folder;
};

static struct state before;
static char folder[4096];
static char **first_environment;
extern char **environ;

#if defined __x86_64__
static uint64_t float_control(int *on_x87)
{
    uint32_t mxcsr, x87[7];
    __asm__ volatile("stmxcsr %0" : "=m"(mxcsr));
    __asm__ volatile("fnstenv %0\n\tfldenv %0" : "+m"(x87));
    *on_x87 = (x87[2] & 0xffff) != 0xffff;
    return (uint64_t)(mxcsr & 0xffc0) << 16 | (x87[0] & 0xffff);
}

static void set_float_control(uint64_t wanted)
{
    uint32_t mxcsr = (uint32_t)(wanted >> 16);
    uint16_t x87 = (uint16_t)wanted;
    __asm__ volatile("fninit\n\tfldcw %0" : : "m"(x87));
    __asm__ volatile("ldmxcsr %0" : : "m"(mxcsr));
}

static int direction(void)
{
    uint64_t flags;
    __asm__ volatile("pushfq\n\tpopq %0\n\tcld" : "=r"(flags) : : "cc", "memory");
    return (flags & 0x400) != 0;
}
#elif defined __aarch64__
static uint64_t float_control(int *on_x87)
{
    uint64_t control;
    __asm__ volatile("mrs %0, fpcr" : "=r"(control));
    *on_x87 = 0;
    return control;
}

static void set_float_control(uint64_t wanted) { __asm__ volatile("msr fpcr, %0" : : "r"(wanted)); }
static int direction(void) { return 0; }
#else
static uint64_t float_control(int *on_x87) { return (uint64_t)(*on_x87 = 0); }
static void set_float_control(uint64_t wanted) { (void)wanted; }
static int direction(void) { return 0; }
#endif

static uint64_t open_files(void)
{
    uint64_t open = 0;
    for (int fd = 0; fd < DESCRIPTORS; fd++)
        if (fcntl(fd, F_GETFD) != -1) open |= (uint64_t)1 << fd;
    return open;
}

/* FNV-1a over every variable, wherever it lies. */
static uint64_t variables(void)
{
    uint64_t hash = 14695981039346656037u;
    for (char **v = environ; v && *v; v++)
        for (const char *c = *v;; c++) {
            hash = (hash ^ (unsigned char)*c) * 1099511628211u;
            if (!*c) break;
        }
    return hash;
}

/* Copy a list of variables; with the texts themselves, which may be written over. */
static char **copy_of(char **list, int texts)
{
    size_t count = 0;
    while (list && list[count]) count++;
    char **out = calloc(count + 1, sizeof *out);
    if (!out) die(122);
    for (size_t i = 0; i < count; i++) {
        out[i] = texts ? strdup(list[i]) : list[i];
        if (!out[i]) die(122);
    }
    return out;
}

static struct state look(void)
{
    struct state now;
    memset(&now, 0, sizeof now);
    now.backwards = direction(); /* first: what follows relies on it */
    now.floats = float_control(&now.on_x87);
    sigprocmask(SIG_SETMASK, NULL, &now.signals);
    if (stat(".", &now.folder)) memset(&now.folder, 0, sizeof now.folder);
    now.environment = variables();
    now.files = open_files();
    return now;
}

void surroundings_note(void)
{
    if (!folder[0]) {
        if (!getcwd(folder, sizeof folder)) folder[0] = '/';
        first_environment = copy_of(environ, 1);
    }
    before = look();
}

static void put_back(const struct state *now, uint32_t changed)
{
    if (changed & (FLOATS | X87)) set_float_control(before.floats);
    if (changed & SIGNALS) sigprocmask(SIG_SETMASK, &before.signals, NULL);
    if (changed & ENVIRONMENT) environ = copy_of(first_environment, 0);
    if (changed & FOLDER && chdir(folder)) return;
    for (int fd = 0; changed & FILES && fd < DESCRIPTORS; fd++) {
        uint64_t bit = (uint64_t)1 << fd;
        if (now->files & ~before.files & bit) close(fd);
        if (before.files & ~now->files & bit && fd < 3) {
            int nothing = open("/dev/null", O_RDWR);
            if (nothing >= 0 && nothing != fd) { dup2(nothing, fd); close(nothing); }
        }
    }
}

uint32_t surroundings_changed(void)
{
    struct state now = look();
    uint32_t changed = 0;
    if (now.floats != before.floats) changed |= FLOATS;
    if (now.on_x87 != before.on_x87) changed |= X87;
    if (now.backwards) changed |= DIRECTION;
    for (int number = 1; number < NSIG; number++)
        if (sigismember(&now.signals, number) != sigismember(&before.signals, number))
            changed |= SIGNALS;
    if (now.folder.st_ino != before.folder.st_ino || now.folder.st_dev != before.folder.st_dev)
        changed |= FOLDER;
    if (now.environment != before.environment) changed |= ENVIRONMENT;
    if (now.files != before.files) changed |= FILES;
    if (changed) put_back(&now, changed);
    return changed;
}
