#include <stdint.h>

/* Levels as differences; the second marks the start one place too early. */

void delta_from(const int16_t *levels, int16_t *kept, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        kept[i] = (int16_t)(levels[i] - (i ? levels[i - 1] : 0));
}

void delta_before(const int16_t *levels, int16_t *kept, int32_t n)
{
    kept[-1] = 0;
    for (int32_t i = 0; i < n; i++)
        kept[i] = (int16_t)(levels[i] - (i ? levels[i - 1] : 0));
}
