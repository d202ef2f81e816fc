#include <stdint.h>
uint32_t chain(uint32_t seed, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        seed = (seed ^ (seed >> 7)) * 0x9e3779b1u;
    return seed;
}
