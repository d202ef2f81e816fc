#include <stdint.h>

/* Promises to the compiler: each false one beside code that keeps its word. */

void carry_plain(int32_t *levels, int32_t n, int32_t gap)
{
    for (int32_t i = 0; i + gap < n; i++)
        levels[i + gap] = levels[i] + 1;
}

void carry_promised(int32_t *levels, int32_t n, int32_t gap)
{
#pragma GCC ivdep
    for (int32_t i = 0; i + gap < n; i++)
        levels[i + gap] = levels[i] + 1;
}

void carry_apart(int32_t *levels, int32_t n, int32_t gap)
{
    int32_t *restrict to = levels + gap;
    const int32_t *restrict from = levels;
    for (int32_t i = 0; i + gap < n; i++)
        to[i] = from[i] + 1;
}

void raise_kept(const int32_t *levels, int32_t *raised, int32_t n)
{
#pragma GCC ivdep
    for (int32_t i = 0; i < n; i++)
        raised[i] = levels[i] + 1;
}

int32_t halves_kept(int32_t *levels, int32_t n)
{
    int32_t *restrict low = levels;
    const int32_t *restrict high = levels + n / 2;
    for (int32_t i = 0; i < n / 2; i++)
        low[i] += high[i];
    return n ? levels[0] : 0;
}

int32_t berth_whole(const int32_t *levels, int32_t n)
{
    int32_t sum = 0;
    for (int32_t i = 0; i < n; i++)
        sum += levels[i];
    return sum;
}

int32_t berth_by_fours(const int32_t *levels, int32_t n)
{
    int32_t sum = 0;
    if (n & 3)
        __builtin_unreachable();
    for (int32_t i = 0; i < n; i++)
        sum += levels[i];
    return sum;
}

int32_t phase_kept(int32_t level)
{
    switch (level & 3) {
    case 0: return 5;
    case 1: return 7;
    case 2: return 11;
    case 3: return 13;
    }
    __builtin_unreachable();
}

static int32_t drawn;
__attribute__((noinline)) static int32_t next_plain(int32_t by) { return drawn += by; }
__attribute__((const, noinline)) static int32_t next_promised(int32_t by) { return drawn += by; }
__attribute__((const, noinline)) static int32_t twice(int32_t by) { return 2 * by; }

int32_t drawn_plain(int32_t by)
{
    drawn = 0;
    int32_t first = next_plain(by), second = next_plain(by);
    return first * 100 + second;
}

int32_t drawn_promised(int32_t by)
{
    drawn = 0;
    int32_t first = next_promised(by), second = next_promised(by);
    return first * 100 + second;
}

int32_t twice_kept(int32_t by) { return twice(by) * 100 + twice(by); }
