#include <stdint.h>

/* Millimetres to feet in fixed point, 16 bits after the point: 215 / 65536
 * of a foot for each millimetre. */

void feet_c(const int16_t *levels, int32_t *feet, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        feet[i] = levels[i] * 215;
}
