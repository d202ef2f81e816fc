#include <stdint.h>

/* The same in one file. */

static uint16_t step(uint16_t crc, unsigned bit)
{
    unsigned top = crc >> 15;
    crc = (uint16_t)(crc << 1);
    return top != bit ? crc ^ 0x1021 : crc;
}

uint16_t frame_crc_whole(const uint8_t *frame, int32_t n)
{
    uint16_t crc = 0xffff;
    for (int32_t i = 0; i < n; i++)
        for (int bit = 7; bit >= 0; bit--)
            crc = step(crc, frame[i] >> bit & 1);
    return crc;
}
