#include <stdint.h>
#include <string.h>

/* Put a level before all others: they move one place on, over themselves. */

void insert_moved(int16_t *levels, int32_t n, int16_t level)
{
    if (n <= 0)
        return;
    memmove(levels + 1, levels, 2 * (size_t)(n - 1));
    levels[0] = level;
}

void insert_copied(int16_t *levels, int32_t n, int16_t level)
{
    if (n <= 0)
        return;
    memcpy(levels + 1, levels, 2 * (size_t)(n - 1));
    levels[0] = level;
}
