#include <stdint.h>

/* Keep every level one place on. What comes first in the second, the increment or the store? */

void shift_clear(const int16_t *levels, int16_t *kept, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        kept[i] = levels[i];
}

void shift_unclear(const int16_t *levels, int16_t *kept, int32_t n)
{
    int32_t i = 0;
    while (i < n)
        kept[i] = levels[i++];
}
