#include <stdint.h>

/* The sum of a day's levels. On short days the second adds to what it never set. */

int32_t total_set(const int16_t *levels, int32_t n)
{
    int32_t sum = 0;
    for (int32_t i = 0; i < n; i++)
        sum += levels[i];
    return sum;
}

int32_t total_unset(const int16_t *levels, int32_t n)
{
    int32_t sum;
    if (n > 8)
        sum = 0;
    for (int32_t i = 0; i < n; i++)
        sum += levels[i];
    return sum;
}
