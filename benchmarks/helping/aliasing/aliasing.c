#include <stdint.h>
void summed(int32_t *total, const int32_t *levels, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        *total += levels[i];
}
