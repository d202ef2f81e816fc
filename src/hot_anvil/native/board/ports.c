/* The talk of a board with whoever started its emulator, as ../io.c has it: below all other parts.
 *
 * It goes through semihosting ("Semihosting for AArch32 and AArch64", Arm): the board asks the
 * emulator for reads and writes of files.
 */
#include "board.h"
#include "worker.h"

#include <string.h>

enum { SYS_OPEN = 1, SYS_WRITE = 5, SYS_READ = 6, SYS_SEEK = 0xa, SYS_EXIT_EXTENDED = 0x20 };
enum { READ_BYTES = 1, WRITE_BYTES = 5, UPDATE = 3 };   /* modes of SYS_OPEN: "rb", "wb", "r+b" */
enum { APPLICATION_EXIT = 0x20026, MOST_READ = 1 << 16 };

static int talk_in, talk_out, report_file;

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

void open_talk(void)
{
    talk_in = opened("/proc/self/fd/0", READ_BYTES);
    talk_out = opened("/proc/self/fd/1", WRITE_BYTES);
    report_file = opened("/proc/self/fd/3", UPDATE);
    if (talk_in < 0 || talk_out < 0 || report_file < 0) die(124);
}

void write_report(const void *report, uint32_t size)
{
    uint32_t start[2] = { (uint32_t)report_file, 0 };
    host(SYS_SEEK, start);
    move_bytes(SYS_WRITE, report_file, report, size);
}
