#include <stdint.h>
uint32_t shifts(uint32_t seed, int32_t n)
{
    while (n-- > 0) {
        seed ^= seed << 13;
        seed ^= seed >> 17;
        seed ^= seed << 5;
    }
    return seed;
}
