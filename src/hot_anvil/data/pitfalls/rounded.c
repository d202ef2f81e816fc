#include <stdint.h>

/* Heights in metres to whole millimetres, kept in range. */

void rounded_kept(const double *heights, int32_t *levels, int32_t n)
{
    for (int32_t i = 0; i < n; i++) {
        double level = heights[i] * 1000;
        if (!(level > -2147483000.0))
            level = -2147483000.0;
        levels[i] = level < 2147483000.0 ? (int32_t)level : 2147483000;
    }
}

void rounded_cast(const double *heights, int32_t *levels, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        levels[i] = (int32_t)(heights[i] * 1000);
}
