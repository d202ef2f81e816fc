/* The start of a program on an emulated board, its talk with whoever started the emulator, and the
 * faults and interrupts that end a call.
 *
 * The talk goes through semihosting ("Semihosting for AArch32 and AArch64", Arm): the board asks the
 * emulator for reads and writes. The code under study runs on the process stack, faults are told
 * from the main one. Registers are those of the "Armv7-M Architecture Reference Manual", chapter B3.
 */
#include "board.h"
#include "report.h"
#include "worker.h"

#include <string.h>

enum { SYS_OPEN = 1, SYS_WRITE = 5, SYS_READ = 6, SYS_SEEK = 0xa, SYS_EXIT_EXTENDED = 0x20 };
enum { READ_BYTES = 1, WRITE_BYTES = 5, UPDATE = 3 };   /* modes of SYS_OPEN: "rb", "wb", "r+b" */
enum { APPLICATION_EXIT = 0x20026 };
enum { SIGILL = 4, SIGTRAP = 5, SIGABRT = 6, SIGBUS = 7, SIGSEGV = 11, SIGSYS = 31 }; /* as Linux */
enum { MISALIGNED = 1, STACK_MET = 0x101, NO_HANDLER = 0x200 }; /* codes; see crash_report.py */
enum { MOST_READ = 1 << 16, NULL_END = 0x400, CODE_END = 1 << 22 };

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

extern unsigned char handlers_top[];
int main(void);
void hot_anvil_reset(void);
static int talk_in, talk_out, report_file;
static struct report report;

static int32_t host(int op, const void *block)
{
    register int r0 __asm__("r0") = op;
    register const void *r1 __asm__("r1") = block;
    __asm__ volatile("bkpt 0xab" : "+r"(r0) : "r"(r1) : "memory");
    return r0;
}

static int opened(const char *name, int mode)
{
    struct { const char *name; int mode; uint32_t length; } block = { name, mode, 0 };
    while (name[block.length]) block.length++;
    return host(SYS_OPEN, &block);
}

void die(int code)
{
    int block[2] = { APPLICATION_EXIT, code };
    for (;;) host(SYS_EXIT_EXTENDED, block);
}

static int32_t move_bytes(int op, int file, const void *at, uint32_t size)
{
    struct { int file; const void *at; uint32_t size; } block = { file, at, size };
    return (int32_t)size - host(op, &block);
}

void read_all(void *to, size_t size)
{
    for (unsigned char *at = to; size;) {
        int32_t got = move_bytes(SYS_READ, talk_in, at, size < MOST_READ ? size : MOST_READ);
        if (got <= 0) die(0);
        at += got;
        size -= (uint32_t)got;
    }
}

void write_all(const void *from, size_t size)
{
    for (const unsigned char *at = from; size;) {
        int32_t put = move_bytes(SYS_WRITE, talk_out, at, size);
        if (put <= 0) die(121);
        at += put;
        size -= (uint32_t)put;
    }
}

void answer(uint8_t status, uint32_t size)
{
    unsigned char head[5] = { status };
    memcpy(head + 1, &size, 4);
    write_all(head, sizeof head);
}

void answer_with(const void *from, size_t size)
{
    answer(0, size);
    write_all(from, size);
}

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

static void close_all(void)
{
    enum { READ_ONLY = 6, CODE_BITS = 22, NULL_BITS = 10, WITH_THE_REST_OPEN = 5 };
    region(0, 0, CODE_BITS, READ_ONLY);
    region(1, 0, NULL_BITS, 0);
    close_memory(2, (uint32_t)stack_low);
    MPU_CTRL = WITH_THE_REST_OPEN;
}

/* Endings. */

static void put_report(void)
{
    uint32_t start[2] = { (uint32_t)report_file, 0 };
    host(SYS_SEEK, start);
    move_bytes(SYS_WRITE, report_file, &report, sizeof report);
}

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

static void tell(int signal, int code, uint32_t address, uint32_t at, uint32_t stack)
{
    int to_memory = signal == SIGSEGV && address != at && at;
    report = (struct report){ .state = 1, .signal = signal, .code = code, .address = address,
                              .instruction = at, .stack = stack, .argument = -1 };
    if (to_memory) {
        report.access = is_store(at) ? 2 : 1;
        report.argument = buffer_at(address, &report.offset);
    }
    put_report();
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
static void still_there(void)
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
    put_report();
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

/* The start. */

__attribute__((naked, used)) static void trouble(void)
{
    __asm__("mrs r0, psp\n\t"
            "tst lr, #4\n\t"
            "it eq\n\t"
            "mrseq r0, msp\n\t"
            "mrs r1, ipsr\n\t"
            "bl hot_anvil_exception");
}

/* What a snippet may handle itself; names as in "CMSIS-Core". */
void SVC_Handler(void) __attribute__((weak, alias("trouble")));
void PendSV_Handler(void) __attribute__((weak, alias("trouble")));
void DebugMon_Handler(void) __attribute__((weak, alias("trouble")));

__attribute__((used, section(".vectors"))) static void *const vectors[] = {
    handlers_top, hot_anvil_reset, trouble, trouble, trouble, trouble, trouble, 0, 0, 0, 0,
    SVC_Handler, DebugMon_Handler, 0, PendSV_Handler, still_there,
    [16 ... 239] = trouble,
};

static void open_talk(void)
{
    talk_in = opened("/proc/self/fd/0", READ_BYTES);
    talk_out = opened("/proc/self/fd/1", WRITE_BYTES);
    report_file = opened("/proc/self/fd/3", UPDATE);
    if (talk_in < 0 || talk_out < 0 || report_file < 0) die(124);
}

__attribute__((used)) static void set_up(void)
{
    enum { FAULTS = 7 << 16, FLOATS = 0xf << 20 };
    CPACR |= FLOATS;
    SHCSR |= FAULTS;
#ifdef STRICT_ALIGNMENT
    CCR |= 1 << 3;
#endif
    __asm__ volatile("dsb\n\tisb");
    open_talk();
    close_all();
    main();
}

__attribute__((naked)) void hot_anvil_reset(void)
{
    __asm__("ldr r0, =stack_top\n\t"
            "msr psp, r0\n\t"
            "movs r0, #2\n\t"
            "msr control, r0\n\t"
            "isb\n\t"
            "bl set_up");
}

/* What compilers call by themselves, and a C library would bring. */

__attribute__((weak)) void *memcpy(void *to, const void *from, size_t size)
{
    unsigned char *at = to;
    const unsigned char *p = from;
    while (size--) *at++ = *p++;
    return to;
}

__attribute__((weak)) void *memmove(void *to, const void *from, size_t size)
{
    unsigned char *at = to;
    const unsigned char *p = from;
    if (at <= p) return memcpy(to, from, size);
    while (size--) at[size] = p[size];
    return to;
}

__attribute__((weak)) void *memset(void *to, int value, size_t size)
{
    for (unsigned char *at = to; size--;) *at++ = (unsigned char)value;
    return to;
}

__attribute__((weak)) int memcmp(const void *left, const void *right, size_t size)
{
    const unsigned char *a = left, *b = right;
    for (; size; size--, a++, b++)
        if (*a != *b) return *a < *b ? -1 : 1;
    return 0;
}

__attribute__((weak, noreturn)) void abort(void)
{
    tell(SIGABRT, 0, 0, (uint32_t)__builtin_return_address(0) - 1, 0);
    for (;;) die(125);
}
