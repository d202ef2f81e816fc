#include <stdint.h>

/* Is there room for a step up? The first asks in numbers wide enough; the second relies on a
 * signed sum that wraps around, and an optimiser may take it that it never does. */

int rises_wide(int32_t level, int32_t step)
{
    return (int64_t)level + step <= INT32_MAX;
}

int rises_wraps(int32_t level, int32_t step)
{
    return level + step > level;
}
