/* Says where a process was when a signal ended it, or when it was asked (SIGXCPU).
 *
 * The report goes into shared memory, so that nothing of the broken process is needed to send it:
 *   u32 state (1 begun, 2 with the calls), i32 signal (0 asked, -1 exit), i32 code, i32 access (1 read, 2 write, 0
 *   not known), u64 address, u64 instruction, u64 stack pointer, u64 where the program is loaded,
 *   i32 argument whose surroundings were touched or -1, u32 calls, i64 offset from its start,
 *   u64 of each call's return address, innermost first.
 * A program that is checked whole finds the descriptor's number in HOT_ANVIL_REPORT.
 */
#define _GNU_SOURCE
#include "report.h"
#include "worker.h"

#include <execinfo.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <ucontext.h>
#include <unistd.h>

enum { FRAMES = 48, STACK = 64 << 10 };

struct slot *called_slot;
static struct report *report;

static void read_registers(const ucontext_t *context, const siginfo_t *info)
{
#if defined __x86_64__
    report->instruction = (uint64_t)context->uc_mcontext.gregs[REG_RIP];
    report->stack = (uint64_t)context->uc_mcontext.gregs[REG_RSP];
    if (info->si_signo == SIGSEGV && info->si_code > 0)
        report->access = context->uc_mcontext.gregs[REG_ERR] & 2 ? 2 : 1;
#elif defined __i386__
    report->instruction = (uint32_t)context->uc_mcontext.gregs[REG_EIP];
    report->stack = (uint32_t)context->uc_mcontext.gregs[REG_ESP];
#elif defined __arm__
    report->instruction = context->uc_mcontext.arm_pc;
    report->stack = context->uc_mcontext.arm_sp;
#elif defined __riscv
    report->instruction = context->uc_mcontext.__gregs[REG_PC];
    report->stack = context->uc_mcontext.__gregs[REG_SP];
#elif defined __aarch64__
    report->instruction = context->uc_mcontext.pc;
    report->stack = context->uc_mcontext.sp;
#endif
}

static void place_address(uint64_t address)
{
    report->argument = -1;
    if (!called_slot || !called_slot->entry) return;
    for (unsigned i = 0; i < called_slot->count; i++) {
        const struct argument *a = &called_slot->args[i];
        uint64_t start = (uint64_t)(uintptr_t)a->map;
        if (a->kind == BUFFER && address >= start && address < start + a->map_size) {
            report->argument = (int32_t)i;
            report->offset = (int64_t)(address - (uint64_t)(uintptr_t)a->base);
        }
    }
}

static void tell(int number, siginfo_t *info, void *context)
{
    int asked = number == SIGXCPU;
    if (report && !report->state) {
        report->signal = asked ? 0 : number;
        report->code = info->si_code;
        report->base = program_base();
        if (info->si_code > 0 && number != SIGABRT)
            report->address = (uint64_t)(uintptr_t)info->si_addr;
        read_registers(context, info);
        if (number == SIGSEGV || number == SIGBUS) place_address(report->address);
        else report->argument = -1;
        report->state = 1;
        /* From here on a broken heap may stop us; the first part is safe already. */
        void *frames[FRAMES];
        int depth = backtrace(frames, FRAMES);
        for (int i = 0; i < depth; i++) report->frames[i] = (uint64_t)(uintptr_t)frames[i];
        report->calls = (uint32_t)depth;
        report->state = 2;
    }
    if (asked) _exit(125);
    signal(number, SIG_DFL);
    raise(number);
}

/* The entry must come back; the worker itself leaves by _exit. */
static void tell_exit(void)
{
    if (!report || report->state) return;
    report->signal = -1;
    report->argument = -1;
    report->base = program_base();
    void *frames[FRAMES];
    int depth = backtrace(frames, FRAMES);
    for (int i = 0; i < depth; i++) report->frames[i] = (uint64_t)(uintptr_t)frames[i];
    report->calls = (uint32_t)depth;
    report->state = 2;
}

void crash_reports(int descriptor, int exits)
{
    static const int numbers[] = { SIGSEGV, SIGBUS, SIGFPE, SIGILL, SIGABRT, SIGTRAP, SIGSYS, SIGXCPU };
    static char stack[STACK];
    size_t size = sizeof *report + FRAMES * sizeof *report->frames;
    report = mmap(NULL, size, PROT_READ | PROT_WRITE, MAP_SHARED, descriptor, 0);
    close(descriptor);
    if (report == MAP_FAILED) report = NULL;
    stack_t alternate = { .ss_sp = stack, .ss_size = sizeof stack };
    sigaltstack(&alternate, NULL);
    struct sigaction action = { 0 };
    action.sa_sigaction = tell;
    action.sa_flags = SA_SIGINFO | SA_ONSTACK | SA_NODEFER;
    for (unsigned i = 0; i < sizeof numbers / sizeof *numbers; i++)
        sigaction(numbers[i], &action, NULL);
    if (exits) atexit(tell_exit);
}

__attribute__((constructor)) static void report_program(void)
{
    const char *number = getenv("HOT_ANVIL_REPORT");
    if (!number) return;
    crash_reports(atoi(number), 0);
    unsetenv("HOT_ANVIL_REPORT");
}
