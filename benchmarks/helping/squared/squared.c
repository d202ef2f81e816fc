#include <stdint.h>
uint64_t squared(uint64_t x, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        x = (x * x ^ x >> 9) + 12345;
    return x;
}
