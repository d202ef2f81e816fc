/* Displace what a call would find warm: caches, TLB, branch predictors and code. */
#include "worker.h"

#include <stdlib.h>
#include <sys/mman.h>
#include <unistd.h>

enum { LINE_BYTES = 64, LEAST = 8 << 20, MOST = 96 << 20 };

static size_t displacing(void)
{
    long last = -1;
#ifdef _SC_LEVEL3_CACHE_SIZE
    last = sysconf(_SC_LEVEL3_CACHE_SIZE);
#endif
    size_t size = last > 0 ? (size_t)last + (size_t)last / 2 : LEAST;
    return size < LEAST ? LEAST : size > MOST ? MOST : size;
}

#if defined(__x86_64__) || defined(__i386__)
/* More branches than a predictor remembers, each taken or not by chance, in more code than the
 * first cache of instructions holds. */
__attribute__((noinline)) static void branches(uint32_t bits)
{
    __asm__ volatile(".rept 6000\n\t"
                     "rol $1, %0\n\t"
                     "jnc 1f\n\t"
                     "lea 1(%0), %0\n"
                     "1:\n\t"
                     ".endr"
                     : "+r"(bits) : : "cc");
}
#else
static void branches(uint32_t bits) { (void)bits; }
#endif

void displace(void)
{
    static unsigned char *room;
    static size_t size;
    static uint32_t bits = 2463534242u;
    if (!room) {
        size = displacing();
        room = mmap(NULL, size, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
        if (room == MAP_FAILED) die(122);
    }
    for (size_t at = 0; at < size; at += LINE_BYTES) room[at]++;
    bits ^= bits << 13;
    bits ^= bits >> 17;
    bits ^= bits << 5;
    branches(bits);
}
