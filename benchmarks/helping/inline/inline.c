#include <stdint.h>
uint32_t mixed(uint32_t a)
{
    a ^= a >> 3; a += a << 2; a ^= a >> 5; a += 1u; a ^= a << 1;
    a ^= a >> 4; a += a << 3; a ^= a >> 6; a += 14u; a ^= a << 2;
    a ^= a >> 5; a += a << 4; a ^= a >> 7; a += 27u; a ^= a << 3;
    a ^= a >> 6; a += a << 5; a ^= a >> 8; a += 40u; a ^= a << 4;
    a ^= a >> 7; a += a << 6; a ^= a >> 9; a += 53u; a ^= a << 5;
    a ^= a >> 3; a += a << 7; a ^= a >> 10; a += 66u; a ^= a << 6;
    a ^= a >> 4; a += a << 8; a ^= a >> 5; a += 79u; a ^= a << 7;
    a ^= a >> 5; a += a << 2; a ^= a >> 6; a += 92u; a ^= a << 8;
    return a;
}

uint32_t checksum(const uint32_t *levels, int32_t n)
{
    uint32_t sum = 0;
    for (int32_t i = 0; i < n; i++)
        sum += mixed(levels[i]);
    return sum;
}
