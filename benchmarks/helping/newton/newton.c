#include <stdint.h>
uint64_t newton(uint64_t a, int32_t n)
{
    uint64_t x = a | 1;
    for (int32_t i = 0; i < n; i++)
        x = (x + a / x) / 2 | 1;
    return x;
}
