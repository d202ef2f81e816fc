#include <stdint.h>
#include <string.h>
void packet(uint8_t *to, const uint8_t *from, int32_t n)
{
    memcpy(to, from, n);
}
