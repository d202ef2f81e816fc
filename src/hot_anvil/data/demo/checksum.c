#include <stdint.h>

/* The running checksum of a telemetry frame: a sum of squares that wraps
 * around, and counts in its low bits how often it did. */

int32_t checksum_careful(const int16_t *levels, int32_t n)
{
    uint32_t sum = 1;
    for (int32_t i = 0; i < n; i++) {
        uint32_t square = (uint32_t)(levels[i] * levels[i]);
        uint32_t next = sum + square;
        if ((int32_t)next < (int32_t)sum)
            next += 1;
        sum = next;
    }
    return (int32_t)sum;
}

/* The same with signed numbers. "It wrapped if the sum got smaller" holds
 * without optimisation only: signed overflow is undefined, so a compiler may
 * conclude that adding a square never makes a sum smaller. */

int32_t checksum_hasty(const int16_t *levels, int32_t n)
{
    int32_t sum = 1;
    for (int32_t i = 0; i < n; i++) {
        int32_t square = levels[i] * levels[i];
        int32_t next = sum + square;
        if (next < sum)
            next += 1;
        sum = next;
    }
    return sum;
}
