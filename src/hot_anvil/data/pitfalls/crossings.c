#include <stdint.h>

/* How often the level rises through the alarm level: one compares a level below zero as unsigned. */

int32_t crossings_signed(const int16_t *levels, int32_t n, int32_t alarm)
{
    int32_t count = 0;
    for (int32_t i = 1; i < n; i++)
        count += levels[i - 1] < alarm && levels[i] >= alarm;
    return count;
}

int32_t crossings_mixed(const int16_t *levels, int32_t n, uint32_t alarm)
{
    int32_t count = 0;
    for (int32_t i = 1; i < n; i++)
        count += levels[i - 1] < alarm && levels[i] >= alarm;
    return count;
}
