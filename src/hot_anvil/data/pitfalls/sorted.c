#include <stdint.h>

/* Sort the levels of a table that the caller promises to leave alone: one of the two writes. */

int32_t median_read(const int16_t *levels, int32_t n)
{
    return n > 0 ? levels[n / 2] : 0;
}

int32_t median_written(const int16_t *levels, int32_t n)
{
    if (n <= 0)
        return 0;
    ((int16_t *)levels)[0] = levels[0];
    return levels[n / 2];
}
