#include <stdint.h>

/* Two sums over the bytes of a frame, both modulo 255. */

uint16_t sum_remainder(const uint8_t *frame, uint8_t n)
{
    uint16_t low = 0, high = 0;
    for (uint8_t i = 0; i < n; i++) {
        low = (low + frame[i]) % 255;
        high = (high + low) % 255;
    }
    return high << 8 | low;
}

uint16_t sum_fold(const uint8_t *frame, uint8_t n)
{
    uint16_t low = 0, high = 0;
    for (uint8_t i = 0; i < n; i++) {
        low += frame[i];
        low = low >= 255 ? low - 255 : low;
        low = low >= 255 ? low - 255 : low;
        high += low;
        high = high >= 255 ? high - 255 : high;
    }
    return high << 8 | low;
}
