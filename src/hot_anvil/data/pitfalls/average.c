#include <stdint.h>

/* The average level of a day; a day without levels has 0. */

int32_t average_asked(const int16_t *levels, int32_t n)
{
    int32_t sum = 0;
    for (int32_t i = 0; i < n; i++)
        sum += levels[i];
    return n ? sum / n : 0;
}

int32_t average_hasty(const int16_t *levels, int32_t n)
{
    int32_t sum = 0;
    for (int32_t i = 0; i < n; i++)
        sum += levels[i];
    return sum / n;
}
