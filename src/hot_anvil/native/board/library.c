/* What compilers call by themselves and a C library would bring: plain, and each to be replaced by
 * a snippet's own. Names with __aeabi: "Run-time ABI for the Arm Architecture", section 4.3.4.
 */
#include "board.h"
#include "worker.h"

#include <string.h>

enum { SIGABRT = 6 };
#define OURS __attribute__((weak))

OURS void *memcpy(void *to, const void *from, size_t size)
{
    unsigned char *at = to;
    const unsigned char *p = from;
    while (size--) *at++ = *p++;
    return to;
}

OURS void *memmove(void *to, const void *from, size_t size)
{
    unsigned char *at = to;
    const unsigned char *p = from;
    if (at <= p) return memcpy(to, from, size);
    while (size--) at[size] = p[size];
    return to;
}

OURS void *memset(void *to, int value, size_t size)
{
    for (unsigned char *at = to; size--;) *at++ = (unsigned char)value;
    return to;
}

OURS int memcmp(const void *left, const void *right, size_t size)
{
    const unsigned char *a = left, *b = right;
    for (; size; size--, a++, b++)
        if (*a != *b) return *a < *b ? -1 : 1;
    return 0;
}

OURS __attribute__((noreturn)) void abort(void)
{
    tell(SIGABRT, 0, 0, (uint32_t)__builtin_return_address(0) - 1, 0);
    for (;;) die(125);
}

OURS void __aeabi_memcpy(void *to, const void *from, size_t size) { memcpy(to, from, size); }
OURS void __aeabi_memmove(void *to, const void *from, size_t size) { memmove(to, from, size); }
OURS void __aeabi_memset(void *to, size_t size, int value) { memset(to, value, size); }
OURS void __aeabi_memclr(void *to, size_t size) { memset(to, 0, size); }

#define SAME(name, as) void name(void) __attribute__((weak, alias(as)));
SAME(__aeabi_memcpy4, "__aeabi_memcpy") SAME(__aeabi_memcpy8, "__aeabi_memcpy")
SAME(__aeabi_memmove4, "__aeabi_memmove") SAME(__aeabi_memmove8, "__aeabi_memmove")
SAME(__aeabi_memset4, "__aeabi_memset") SAME(__aeabi_memset8, "__aeabi_memset")
SAME(__aeabi_memclr4, "__aeabi_memclr") SAME(__aeabi_memclr8, "__aeabi_memclr")
