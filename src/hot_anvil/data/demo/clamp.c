#include <stdint.h>

/* A level outside the sensor's range is kept as the nearest level inside. */

void clamp_branch(const int16_t *levels, int16_t *kept, int32_t n, int16_t low, int16_t high)
{
    for (int32_t i = 0; i < n; i++) {
        int16_t level = levels[i];
        if (level < low)
            level = low;
        else if (level > high)
            level = high;
        kept[i] = level;
    }
}

/* The same without branches: the comparisons become masks. */

void clamp_select(const int16_t *levels, int16_t *kept, int32_t n, int16_t low, int16_t high)
{
    for (int32_t i = 0; i < n; i++) {
        int32_t level = levels[i];
        int32_t under = -(level < low);
        int32_t over = -(level > high);
        kept[i] = (int16_t)((level & ~(under | over)) | (low & under) | (high & over));
    }
}
