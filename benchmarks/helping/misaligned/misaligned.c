#include <stdint.h>
void blend(float *out, const float *a, const float *b, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        out[i] = a[i] * 0.25f + b[i] * 0.75f;
}
