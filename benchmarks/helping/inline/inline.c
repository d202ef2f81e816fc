#include <stdint.h>
uint32_t coded(const uint32_t *table, uint32_t a)
{
    uint32_t low = table[a & 255], high = table[a >> 8 & 255];
    a += low ^ high << 3;
    return table[a & 255] + (low ^ a * 5) + (high >> 2) + (table[a >> 16 & 255] | low);
}

uint32_t checksum(const uint32_t *levels, const uint32_t *table, int32_t n)
{
    uint32_t sum = 0;
    for (int32_t i = 0; i < n; i++)
        sum += coded(table, levels[i]);
    return sum;
}
