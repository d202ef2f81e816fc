#include <stdint.h>
uint32_t looked_up(const uint32_t *table, const uint8_t *code, int32_t n)
{
    uint32_t crc = ~0u;
    for (int32_t i = 0; i < n; i++)
        crc = table[(crc ^ code[i]) & 255] ^ (crc >> 8);
    return ~crc;
}
