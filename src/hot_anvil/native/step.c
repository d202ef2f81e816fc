/* Counts the instructions that calls of a function execute, one by one, on this processor itself.
 *
 * Arguments: the function's address in the program, 1 where the program is loaded anywhere (else 0),
 * the most steps of a call, the file to write to in the program's folder, then the program and its
 * arguments, the last of them its folder. Every call adds a line with its number, 0 for one of more
 * steps than may be. A repeated string instruction counts once, as under the emulator.
 */
#define _GNU_SOURCE
#include <errno.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/ptrace.h>
#include <sys/user.h>
#include <sys/wait.h>
#include <unistd.h>

enum { STOP = 0xcc };

static pid_t child;
static struct user_regs_struct registers;

/* Goes on in one way, and returns once the program stops at a trap; its other signals reach it. */
static void go(int how)
{
    int status, number = 0;
    for (;;) {
        if (ptrace(how, child, NULL, (void *)(intptr_t)number)) exit(124);
        if (waitpid(child, &status, 0) < 0) exit(124);
        if (WIFEXITED(status)) exit(WEXITSTATUS(status));
        if (WIFSIGNALED(status)) {
            signal(WTERMSIG(status), SIG_DFL);
            raise(WTERMSIG(status));
            exit(125);
        }
        number = WSTOPSIG(status);
        if (number == SIGTRAP) break;
    }
    if (ptrace(PTRACE_GETREGS, child, NULL, &registers)) exit(124);
}

static long peek(uint64_t at) { return ptrace(PTRACE_PEEKTEXT, child, (void *)at, NULL); }

static void poke(uint64_t at, long word)
{
    if (ptrace(PTRACE_POKETEXT, child, (void *)at, (void *)word)) exit(124);
}

/* Where the program was loaded. */
static uint64_t base_of(const char *path)
{
    char name[64], line[4096], real[4096];
    unsigned long first = 0;
    snprintf(name, sizeof name, "/proc/%d/maps", (int)child);
    FILE *maps = fopen(name, "r");
    if (!maps || !realpath(path, real)) exit(124);
    while (fgets(line, sizeof line, maps)) {
        line[strcspn(line, "\n")] = 0;
        const char *file = strchr(line, '/');
        if (file && !strcmp(file, real)) {
            first = strtoul(line, NULL, 16);
            break;
        }
    }
    fclose(maps);
    return first;
}

/* From the function's first instruction to its return. */
static uint64_t count_call(uint64_t most)
{
    uint64_t stack = registers.rsp, back = (uint64_t)peek(stack), count = 0, at = 0;
    while (registers.rip != back || registers.rsp != stack + 8) {
        count += registers.rip != at;
        at = registers.rip;
        if (count > most) return 0;
        go(PTRACE_SINGLESTEP);
    }
    return count;
}

int main(int argc, char **argv)
{
    if (argc < 7) return 124;
    uint64_t entry = strtoull(argv[1], NULL, 16), most = strtoull(argv[3], NULL, 10);
    char out[8192];
    snprintf(out, sizeof out, "%s/%s", argv[argc - 1], argv[4]);
    prctl(PR_SET_PDEATHSIG, SIGKILL);
    child = fork();
    if (!child) {
        prctl(PR_SET_PDEATHSIG, SIGKILL);
        if (ptrace(PTRACE_TRACEME, 0, NULL, NULL)) _exit(124);
        execv(argv[5], argv + 5);
        _exit(124);
    }
    int status;
    if (waitpid(child, &status, 0) < 0 || !WIFSTOPPED(status)) return 124;
    ptrace(PTRACE_SETOPTIONS, child, NULL, (void *)PTRACE_O_EXITKILL);
    if (atoi(argv[2])) entry += base_of(argv[5]);
    long code = peek(entry);
    for (;;) {
        poke(entry, (code & ~0xffl) | STOP);
        do go(PTRACE_CONT);
        while (registers.rip != entry + 1);
        poke(entry, code);
        registers.rip = entry;
        if (ptrace(PTRACE_SETREGS, child, NULL, &registers)) return 124;
        uint64_t count = count_call(most);
        FILE *file = fopen(out, "a");
        if (!file) return 124;
        fprintf(file, "%llu\n", (unsigned long long)count);
        fclose(file);
    }
}
