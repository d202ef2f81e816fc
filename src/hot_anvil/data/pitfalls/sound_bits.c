#include <stdint.h>

/* Sound code near pitfalls: sums that wrap around without signs, shifts in range, wide products. */

uint32_t wraps(const uint32_t *marks, int32_t n)
{
    uint32_t sum = 0;
    for (int32_t i = 0; i < n; i++)
        sum = sum * 31 + marks[i];
    return sum;
}

uint32_t turns(uint32_t mark, uint32_t by)
{
    by &= 31;
    return mark << by | mark >> (-by & 31);
}

unsigned __int128 product(uint64_t level, unsigned __int128 scale)
{
    return scale * level;
}

int32_t ones(const uint8_t *frame, int32_t n)
{
    int32_t count = 0;
    for (int32_t i = 0; i < n; i++)
        count += __builtin_popcount(frame[i]);
    return count;
}
