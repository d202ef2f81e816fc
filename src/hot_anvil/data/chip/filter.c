#include <stdint.h>

/* Each level moves what is kept by an eighth of the difference, towards zero. */

int16_t filter_divide(const int16_t *levels, uint8_t n)
{
    int16_t kept = 0;
    for (uint8_t i = 0; i < n; i++)
        kept += (levels[i] - kept) / 8;
    return kept;
}

int16_t filter_shift(const int16_t *levels, uint8_t n)
{
    int16_t kept = 0;
    for (uint8_t i = 0; i < n; i++) {
        int16_t by = levels[i] - kept;
        if (by < 0)
            by += 7;
        kept += by >> 3;
    }
    return kept;
}
