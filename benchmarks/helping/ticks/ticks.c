#include <stdint.h>
uint32_t ticks(uint32_t level, uint32_t rate)
{
    return (level ^ (rate << 5)) + (rate & level >> 3);
}
