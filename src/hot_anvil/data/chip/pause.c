#include <stdint.h>

void pause_gone(uint16_t passes)
{
    while (passes--)
        ;
}

/* Each pass is an access that a compiler must make. */

void pause_kept(uint16_t passes)
{
    for (volatile uint16_t left = passes; left; left--)
        ;
}
