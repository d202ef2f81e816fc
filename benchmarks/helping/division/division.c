#include <stdint.h>
uint32_t buckets(const uint32_t *levels, uint32_t width, int32_t n)
{
    uint32_t sum = 0;
    for (int32_t i = 0; i < n; i++)
        sum += levels[i] / width;
    return sum;
}
