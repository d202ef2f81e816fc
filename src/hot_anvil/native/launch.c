/* Runs whole programs for timing: from here, not from a large process, whose memory would count
 * as theirs.
 *
 * Request: u16 arguments, u16 variables, u64 memory limit or 0, u64 file size limit, then texts
 * with a zero at the end: folder to run in, standard input, standard output, the arguments (the
 * program first), the variables.
 * Answer: u64 ns until it had ended, u64 ns of processor time, u64 bytes of memory at its most,
 * u64 status as wait tells it.
 */
#define _GNU_SOURCE
#include "worker.h"

#include <fcntl.h>
#include <sched.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

struct launch {
    uint64_t memory, file_size;
    const char *folder, *in, *out;
    char **arguments, **variables;
};

static void limit(int what, rlim_t most)
{
    struct rlimit wanted;
    if (getrlimit(what, &wanted)) return;
    wanted.rlim_cur = wanted.rlim_max == RLIM_INFINITY || most < wanted.rlim_max
        ? most : wanted.rlim_max;
    setrlimit(what, &wanted);
}

/* In the new process, which shares our memory until it becomes the program. */
static void become(const struct launch *launch)
{
    signal(SIGXFSZ, SIG_DFL);
    prctl(PR_SET_PDEATHSIG, SIGKILL);
    limit(RLIMIT_FSIZE, launch->file_size);
    if (launch->memory) limit(RLIMIT_AS, launch->memory);
    int in = open(launch->in, O_RDONLY), out = open(launch->out, O_WRONLY | O_CREAT | O_TRUNC, 0600);
    if (in < 0 || out < 0 || dup2(in, 0) < 0 || dup2(out, 1) < 0) _exit(127);
    close(in);
    close(out);
    if (chdir(launch->folder)) _exit(127);
    execve(launch->arguments[0], launch->arguments, launch->variables);
    _exit(127);
}

static const char *text(char **at)
{
    const char *start = *at;
    *at += strlen(start) + 1;
    return start;
}

static char **texts(char **at, unsigned count)
{
    char **out = calloc(count + 1, sizeof *out);
    if (!out) die(122);
    for (unsigned i = 0; i < count; i++) out[i] = (char *)text(at);
    return out;
}

static uint64_t nanoseconds(struct timeval t)
{
    return (uint64_t)t.tv_sec * 1000000000u + (uint64_t)t.tv_usec * 1000u;
}

void launch_program(unsigned char *p)
{
    uint16_t counts[2];
    struct launch launch;
    memcpy(counts, p, 4);
    memcpy(&launch.memory, p + 4, 8);
    memcpy(&launch.file_size, p + 12, 8);
    char *at = (char *)p + 20;
    launch.folder = text(&at);
    launch.in = text(&at);
    launch.out = text(&at);
    launch.arguments = texts(&at, counts[0]);
    launch.variables = texts(&at, counts[1]);
    struct timespec start, end;
    struct rusage used;
    int status = 0;
    clock_gettime(CLOCK_MONOTONIC, &start);
    pid_t child = vfork();
    if (child == 0) become(&launch);
    if (child < 0 || wait4(child, &status, 0, &used) < 0) die(125);
    clock_gettime(CLOCK_MONOTONIC, &end);
    uint64_t said[4] = {
        (uint64_t)(end.tv_sec - start.tv_sec) * 1000000000u + (uint64_t)end.tv_nsec
            - (uint64_t)start.tv_nsec,
        nanoseconds(used.ru_utime) + nanoseconds(used.ru_stime),
        (uint64_t)used.ru_maxrss * 1024,
        (uint64_t)status,
    };
    free(launch.arguments);
    free(launch.variables);
    answer_with(said, sizeof said);
}
