#include <stdint.h>
int32_t spread(const int32_t *levels, uint32_t step, uint32_t n)
{
    int32_t sum = 0;
    for (uint32_t i = 0; i < n; i += step)
        sum += levels[i] ^ levels[i + 1] ^ levels[i + 2];
    return sum;
}
