#include <stdint.h>

/* The steps between neighbouring levels, two at a time. */

int32_t pairs_whole(const int16_t *levels, int32_t n)
{
    int32_t sum = 0;
    for (int32_t i = 0; i + 1 < n; i += 2)
        sum += levels[i + 1] - levels[i];
    return sum;
}

int32_t pairs_odd(const int16_t *levels, int32_t n)
{
    int32_t sum = 0;
    for (int32_t i = 0; i < n; i += 2) {
        int32_t step = levels[i + 1] - levels[i];
        sum += i + 1 < n ? step : 0;
    }
    return sum;
}
