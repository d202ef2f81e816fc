#include <math.h>
#include <stdint.h>

/* Levels that were not read are NaN. Flags that promise there are none drop the question. */

int32_t gaps_counted(const float *heights, int32_t n)
{
    int32_t gaps = 0;
    for (int32_t i = 0; i < n; i++)
        gaps += isnan(heights[i]) != 0;
    return gaps;
}
