#include <stdint.h>

#ifndef OFF
#define OFF 3
#endif

/* Results that are left in variables of the program. */

float means[8];
int32_t calls_seen;
static int32_t table[64];

int32_t table_at(int32_t i) { return table[i & 63]; }

void means_kept(const float *heights, int32_t n)
{
    for (int32_t k = 0; k < 8; k++) {
        float sum = 0;
        for (int32_t i = 0; i < n; i++)
            sum += heights[i] * (float)(k + 1) / 3;
        means[k] = sum;
    }
}

void table_filled(const int16_t *levels, int32_t n)
{
    for (int32_t i = 0; i < n && i < 64; i++)
        table[i] = levels[i] * 3 - 7;
    calls_seen++;
}

static int32_t highest[4];

int32_t highest_at(int32_t i) { return highest[i & 3]; }

void highest_kept(const int16_t *levels, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        if (levels[i] > highest[i & 3])
            highest[i & 3] = levels[i];
}

void highest_lost(const int16_t *levels, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        if (levels[i] > highest[i & 3])
            highest[i & (OFF)] = levels[i];
}
