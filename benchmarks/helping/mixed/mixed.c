#include <stdint.h>
uint64_t mixed(uint64_t x)
{
    x ^= x >> 33;
    x *= 0xff51afd7ed558ccdu;
    x ^= x >> 33;
    x *= 0xc4ceb9fe1a85ec53u;
    return x ^ (x >> 33);
}
