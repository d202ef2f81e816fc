#include <stdint.h>

/* The sensor's limits stand in a constant table, and one of the two writes to it. */

static const int16_t limits[4] = { -200, 200, -500, 500 };

int32_t limits_read(int32_t level)
{
    return level > limits[1] ? limits[1] : level;
}

int32_t limits_written(int32_t level)
{
    volatile int16_t *own = (volatile int16_t *)limits;
    own[3] = (int16_t)level;
    return level > limits[1] ? limits[1] : level;
}
