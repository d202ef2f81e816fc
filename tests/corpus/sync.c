#include <stdatomic.h>
#include <stdint.h>
_Atomic uint32_t sequence;
uint32_t plain_sequence;
static volatile int flag;

uint32_t next_sequence(void) { return atomic_fetch_add(&sequence, 1) + 1; }
uint32_t next_plain(void) { uint32_t old = plain_sequence; plain_sequence = old + 1; return old + 1; }

void release(void) { atomic_store(&sequence, 0); }
void release_plain(void) { plain_sequence = 0; }

int spin(void) { while (flag) { } return flag; }

uint64_t cycles(void)
{
    uint64_t v = 7;
#ifdef WITH_ASM
    __asm__ volatile("nop\n\tnop" : "+r"(v));
#endif
    return v;
}

int big_frame(int n)
{
    volatile char room[512];
    for (int i = 0; i < 512; i++)
        room[i] = (char)n;
    return room[n & 511];
}
