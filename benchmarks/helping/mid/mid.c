#include <stdint.h>
uint32_t mid(uint32_t low, uint32_t high)
{
    return (low & high) + ((low ^ high) >> 1);
}
