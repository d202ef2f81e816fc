#include <stdint.h>
uint32_t turned(uint32_t seed, int32_t n)
{
    for (int32_t i = 0; i < n; i++) {
        seed = (seed << 5 | seed >> 27) + 0x1234567;
        seed *= seed | 1;
    }
    return seed;
}
