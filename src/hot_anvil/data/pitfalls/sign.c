#include <stdint.h>
#include <string.h>

/* Turn heights below the datum over, and add them up: the sign bit changed in a copy, or through
 * a pointer of another type, which the compiler takes to point elsewhere. */

float sign_copied(float *heights, int32_t n)
{
    float sum = 0;
    for (int32_t i = 0; i < n; i++) {
        uint32_t bits;
        heights[i] = heights[i] * 2;
        memcpy(&bits, &heights[i], sizeof bits);
        bits &= 0x7fffffff;
        memcpy(&heights[i], &bits, sizeof bits);
        sum += heights[i];
    }
    return sum;
}

float sign_punned(float *heights, int32_t n)
{
    float sum = 0;
    for (int32_t i = 0; i < n; i++) {
        heights[i] = heights[i] * 2;
        *(uint32_t *)&heights[i] &= 0x7fffffff;
        sum += heights[i];
    }
    return sum;
}
