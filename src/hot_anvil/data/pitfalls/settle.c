#include <stdint.h>

/* Does the swell settle? From 0 it never gets to 1: a loop without end, which a compiler may
 * take to have one. */

int32_t settle_asked(uint32_t swell)
{
    return swell != 0;
}

int32_t settle_waited(uint32_t swell)
{
    while (swell != 1)
        swell = swell % 2 ? swell / 2 + 1 : swell / 2;
    return 1;
}
