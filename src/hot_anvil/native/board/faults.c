/* What ends a call on a board: closed memory, faults, interrupts that nobody handles; and what a
 * call leaves changed.
 *
 * The code under study runs on the process stack, faults are told from the main one. Registers are
 * those of the "Armv7-M Architecture Reference Manual", chapter B3.
 */
#include "board.h"
#include "report.h"
#include "worker.h"

#include <string.h>

enum { SIGILL = 4, SIGTRAP = 5, SIGBUS = 7, SIGSEGV = 11, SIGSYS = 31 }; /* as on Linux */
enum { MISALIGNED = 1, STACK_MET = 0x101, NO_HANDLER = 0x200 }; /* codes: crash_report.py */
enum { NULL_END = 0x400, CODE_END = 1 << 22 };

#define WORD(address) (*(volatile uint32_t *)(address))
#define SYST_CSR WORD(0xe000e010)
#define SYST_RVR WORD(0xe000e014)
#define SYST_CVR WORD(0xe000e018)
#define CCR WORD(0xe000ed14)
#define SHCSR WORD(0xe000ed24)
#define CFSR WORD(0xe000ed28)
#define MMFAR WORD(0xe000ed34)
#define BFAR WORD(0xe000ed38)
#define CPACR WORD(0xe000ed88)
#define MPU_CTRL WORD(0xe000ed94)
#define MPU_RNR WORD(0xe000ed98)
#define MPU_RBAR WORD(0xe000ed9c)
#define MPU_RASR WORD(0xe000eda0)
enum { MSTKERR = 1 << 4, MMARVALID = 1 << 7, STKERR = 1 << 12, BFARVALID = 1 << 15, UNDEFINSTR = 1 << 16,
       INVSTATE = 1 << 17, NOCP = 1 << 19, UNALIGNED = 1 << 24 };


static struct report report;

/* Memory that is closed. */

static void region(int number, uint32_t start, int bits, uint32_t access)
{
    MPU_RNR = (uint32_t)number;
    MPU_RASR = 0;
    MPU_RBAR = start;
    MPU_RASR = access << 24 | (uint32_t)(bits - 1) << 1 | 1;
    __asm__ volatile("dsb\n\tisb");
}

void close_memory(int number, uint32_t start)
{
    if (start) {
        region(number, start, GUARD_BITS, 0);
        return;
    }
    MPU_RNR = (uint32_t)number;
    MPU_RASR = 0;
}

void set_up_faults(void)
{
    enum { READ_ONLY = 6, CODE_BITS = 22, NULL_BITS = 10, WITH_THE_REST_OPEN = 5 };
    enum { FAULTS = 7 << 16, FLOATS = 0xf << 20, TRAP_MISALIGNED = 1 << 3 };
    CPACR |= FLOATS;
    SHCSR |= FAULTS;
#ifdef STRICT_ALIGNMENT
    CCR |= TRAP_MISALIGNED;
#endif
    region(0, 0, CODE_BITS, READ_ONLY);
    region(1, 0, NULL_BITS, 0);
    close_memory(2, (uint32_t)stack_low);
    MPU_CTRL = WITH_THE_REST_OPEN;
}

/* Endings. */

/* Does the instruction at an address write to memory? "Armv7-M", chapter A5. */
static int is_store(uint32_t at)
{
    if (at < NULL_END || at >= CODE_END) return 0;
    uint16_t first = *(const uint16_t *)(at & ~1u);
    if (first >> 11 >= 0x1d) {
        int kind = first >> 9 & 0x7f;
        return (kind == 0x74 || kind == 0x76 || kind == 0x7c) && !(first & 0x10);
    }
    int by_register = first >> 12 == 5 && (first >> 9 & 7) < 3;
    int by_number = first >> 13 == 3 || first >> 12 == 8 || first >> 12 == 9 || first >> 12 == 12;
    return by_register || first >> 9 == 0x5a || (by_number && !(first & 0x800));
}

void tell(int signal, int code, uint32_t address, uint32_t at, uint32_t stack)
{
    int to_memory = signal == SIGSEGV && address != at && at;
    report = (struct report){ .state = 1, .signal = signal, .code = code, .address = address,
                              .instruction = at, .stack = stack, .argument = -1 };
    if (to_memory) {
        report.access = is_store(at) ? 2 : 1;
        report.argument = buffer_at(address, &report.offset);
    }
    write_report(&report, sizeof report);
}

/* What the processor pushed: r0 to r3, r12, the return address, the instruction, its flags. */
__attribute__((used)) void hot_anvil_exception(const uint32_t *frame, uint32_t number)
{
    enum { HARD = 3, USAGE = 6, AT = 6 };
    const unsigned char *lowest = (const unsigned char *)frame;
    int met = lowest < stack_low + GUARD || lowest >= handlers_top;
    uint32_t faults = CFSR, stack = (uint32_t)frame, at = met ? 0 : frame[AT];
    uint32_t address = faults & MMARVALID ? MMFAR : faults & BFARVALID ? BFAR : at;
    if (number < HARD || number > USAGE) tell(SIGSYS, NO_HANDLER + (int)number, 0, at, stack);
    else if (met || faults & (MSTKERR | STKERR)) tell(SIGSEGV, STACK_MET, stack, 0, stack);
    else if (faults & UNALIGNED) tell(SIGBUS, MISALIGNED, 0, at, stack);
    else if (faults & (UNDEFINSTR | INVSTATE | NOCP)) tell(SIGILL, 0, 0, at, stack);
    else if (faults) tell(SIGSEGV, 0, address, at, stack);
    else tell(SIGTRAP, 0, 0, at, stack);
    die(125);
}

/* A call that takes long leaves word of where it is, again and again, until it is ended. */
void still_there(void)
{
    uint32_t stack;
    __asm__ volatile("mrs %0, psp" : "=r"(stack));
    tell(0, 0, 0, ((const uint32_t *)stack)[6], stack);
}

void start_patience(void)
{
    enum { LONGEST = 0xffffff, FROM_PROCESSOR = 7 }; /* ticks: two thirds of a second */
    SYST_RVR = LONGEST;
    SYST_CVR = 0;
    SYST_CSR = FROM_PROCESSOR;
}

void end_patience(void)
{
    SYST_CSR = 0;
    if (!report.state) return;
    report.state = 0;
    write_report(&report, sizeof report);
}

/* Of the state that calls share. */

uint32_t interrupts_off(void)
{
    uint32_t all, some, faults;
    __asm__ volatile("mrs %0, primask\n\tmrs %1, basepri\n\tmrs %2, faultmask"
                     : "=r"(all), "=r"(some), "=r"(faults));
    return all | some | faults;
}

void interrupts_on(void)
{
    __asm__ volatile("cpsie if\n\tmsr basepri, %0" : : "r"(0) : "memory");
}

uint32_t float_control(void)
{
#ifdef __ARM_FP
    uint32_t wanted;
    __asm__ volatile("vmrs %0, fpscr" : "=r"(wanted));
    return wanted & 0x07c00000;
#else
    return 0;
#endif
}

void set_float_control(uint32_t wanted)
{
#ifdef __ARM_FP
    __asm__ volatile("vmsr fpscr, %0" : : "r"(wanted));
#else
    (void)wanted;
#endif
}
