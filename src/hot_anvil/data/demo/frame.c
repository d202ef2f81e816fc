#include <stdint.h>

/* The CRC of a telemetry frame, CRC-16 with the polynomial 0x1021, whose one
 * step for a bit lives in a file of its own: only link-time optimisation can
 * see through the call. */

uint16_t crc_step(uint16_t crc, unsigned bit);

uint16_t frame_crc_split(const uint8_t *frame, int32_t n)
{
    uint16_t crc = 0xffff;
    for (int32_t i = 0; i < n; i++)
        for (int bit = 7; bit >= 0; bit--)
            crc = crc_step(crc, frame[i] >> bit & 1);
    return crc;
}
