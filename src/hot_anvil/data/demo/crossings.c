#include <stdint.h>

/* How often the level rises through the alarm level. */

int32_t crossings_signed(const int16_t *levels, int32_t n, int32_t alarm)
{
    int32_t count = 0;
    for (int32_t i = 1; i < n; i++)
        if (levels[i - 1] < alarm && levels[i] >= alarm)
            count++;
    return count;
}

/* The same, but the alarm level comes as an unsigned number: a level below
 * zero is compared as a huge one, and low water counts as an alarm. */

int32_t crossings_mixed(const int16_t *levels, int32_t n, uint32_t alarm)
{
    int32_t count = 0;
    for (int32_t i = 1; i < n; i++)
        if (levels[i - 1] < alarm && levels[i] >= alarm)
            count++;
    return count;
}
