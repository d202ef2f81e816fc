#include <stdint.h>

/* The sum of the last four levels, kept in a ring. The ring of the second has one place less. */

int32_t window_ring(const int16_t *levels, int32_t n)
{
    int16_t ring[4] = { 0 };
    for (int32_t i = 0; i < n; i++)
        ring[i % 4] = levels[i];
    return ring[0] + ring[1] + ring[2] + ring[3];
}

int32_t window_short(const int16_t *levels, int32_t n)
{
    struct { int16_t ring[3], next; } kept = { { 0 }, 0 };
    for (int32_t i = 0; i < n; i++)
        kept.ring[i % 4] = levels[i];
    return kept.ring[0] + kept.ring[1] + kept.ring[2] + kept.next;
}
