#include <stdint.h>

/* A level divided by a scale from a frame, kept in range. */

int32_t scale_wide(int32_t level, int32_t scale)
{
    if (!scale)
        return 0;
    int64_t scaled = (int64_t)level / scale;
    return scaled > INT32_MAX ? INT32_MAX : (int32_t)scaled;
}

int32_t scale_narrow(int32_t level, int32_t scale)
{
    if (!scale)
        return 0;
    return level / scale;
}
