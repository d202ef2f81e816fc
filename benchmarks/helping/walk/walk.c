#include <stdint.h>
uint32_t walk(const uint32_t *table, int32_t n)
{
    uint32_t at = 1;
    for (int32_t i = 0; i < n; i++)
        at = table[at & 255] + at * 5;
    return at;
}
