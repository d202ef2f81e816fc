#include <stdint.h>

/* Keep the levels, and a zero behind them where there is room: the second does not ask. */

void copy_inside(const int16_t *levels, int16_t *kept, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        kept[i] = levels[i];
}

void copy_beyond(const int16_t *levels, int16_t *kept, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        kept[i] = levels[i];
    kept[n] = 0;
}
