#include <stdint.h>
#include <time.h>

/* A count that depends on nothing but the levels, on where they lie, on the clock, on how often
 * it was asked before. */

static int32_t above(const int16_t *levels, int32_t n, int32_t mark)
{
    int32_t count = 0;
    for (int32_t i = 0; i < n; i++)
        count += levels[i] > mark;
    return count;
}

int32_t whim_none(const int16_t *levels, int32_t n)
{
    return above(levels, n, 0);
}

int32_t whim_address(const int16_t *levels, int32_t n)
{
    return above(levels, n, 0) + (int32_t)((uintptr_t)levels >> 12 & 0xffff);
}

int32_t whim_time(const int16_t *levels, int32_t n)
{
    struct timespec now;
    clock_gettime(CLOCK_MONOTONIC, &now);
    return above(levels, n, 0) + (int32_t)now.tv_nsec;
}

int32_t whim_history(const int16_t *levels, int32_t n)
{
    static int32_t asked;
    return above(levels, n, 0) + asked++;
}
