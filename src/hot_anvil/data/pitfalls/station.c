#include <stdint.h>
#include <stdlib.h>

/* The number of a station's berth; one of the two ends the program when it knows none. */

int32_t station_told(int32_t code)
{
    return code >= 0 && code < 5 ? code * 3 : -1;
}

int32_t station_ended(int32_t code)
{
    if (code < 0 || code >= 5)
        exit(3);
    return code * 3;
}
