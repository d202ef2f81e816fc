#include <stdint.h>

uint16_t crc_step(uint16_t crc, unsigned bit)
{
    unsigned top = crc >> 15;
    crc = (uint16_t)(crc << 1);
    return top != bit ? crc ^ 0x1021 : crc;
}
