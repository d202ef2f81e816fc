#include <stdint.h>

/* A level inside the sensor's range. The second forgets those that are inside already. */

int32_t range_all(int32_t level)
{
    if (level > 200)
        return 200;
    return level < -200 ? -200 : level;
}

int32_t range_some(int32_t level)
{
    if (level > 200)
        return 200;
    if (level < -200)
        return -200;
}
