#include <stdint.h>

/* The mean height. The order of a sum of floats matters in its last places: flags that let a
 * compiler change it change the result. */

float mean_height(const float *heights, int32_t n)
{
    float sum = 0;
    for (int32_t i = 0; i < n; i++)
        sum += heights[i];
    return sum / (float)(n > 0 ? n : 1);
}
