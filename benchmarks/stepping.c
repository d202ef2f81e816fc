/* Runs a program to the first call of a function and steps through it, one instruction at a
 * time: prints the offset of each instruction inside the function, in the order executed.
 *
 *     stepping ADDRESS SIZE PROGRAM
 */
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/ptrace.h>
#include <sys/user.h>
#include <sys/wait.h>
#include <unistd.h>

static void fail(const char *what)
{
    perror(what);
    exit(3);
}

int main(int argc, char **argv)
{
    if (argc != 4)
        return 2;
    unsigned long low = strtoul(argv[1], 0, 0), size = strtoul(argv[2], 0, 0);
    pid_t child = fork();
    if (child == 0) {
        if (ptrace(PTRACE_TRACEME, 0, 0, 0))
            fail("trace me");
        execl(argv[3], argv[3], (char *)0);
        fail(argv[3]);
    }
    int status;
    struct user_regs_struct regs;
    if (waitpid(child, &status, 0) < 0 || !WIFSTOPPED(status))
        fail("start");
    errno = 0;
    long word = ptrace(PTRACE_PEEKTEXT, child, low, 0);
    if (errno || ptrace(PTRACE_POKETEXT, child, low, (word & ~0xffL) | 0xcc))
        fail("breakpoint");
    ptrace(PTRACE_CONT, child, 0, 0);
    waitpid(child, &status, 0);
    if (!WIFSTOPPED(status))
        return 4; /* it never called the function */
    ptrace(PTRACE_POKETEXT, child, low, word);
    ptrace(PTRACE_GETREGS, child, 0, &regs);
    regs.rip = low;
    ptrace(PTRACE_SETREGS, child, 0, &regs);
    unsigned long back = ptrace(PTRACE_PEEKDATA, child, regs.rsp, 0), stack = regs.rsp;
    while (regs.rip != back || regs.rsp <= stack) {
        if (regs.rip - low < size)
            printf("%lu\n", (unsigned long)regs.rip - low);
        if (ptrace(PTRACE_SINGLESTEP, child, 0, 0) || waitpid(child, &status, 0) < 0)
            fail("step");
        if (!WIFSTOPPED(status))
            return 5; /* it ended inside the function */
        ptrace(PTRACE_GETREGS, child, 0, &regs);
    }
    ptrace(PTRACE_KILL, child, 0, 0);
    return 0;
}
