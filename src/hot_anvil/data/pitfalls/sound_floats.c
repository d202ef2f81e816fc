#include <complex.h>
#include <math.h>
#include <stdint.h>

/* Sound code on floats: a minimum that knows NaN, a sum with an error kept, wide and complex. */

float least(const float *heights, int32_t n)
{
    float low = INFINITY;
    for (int32_t i = 0; i < n; i++)
        low = fminf(low, heights[i]);
    return low;
}

double kept(const double *heights, int32_t n)
{
    double sum = 0, lost = 0;
    for (int32_t i = 0; i < n; i++) {
        double part = heights[i] - lost;
        double next = sum + part;
        lost = (next - sum) - part;
        sum = next;
    }
    return sum;
}

long double wide(const double *heights, int32_t n)
{
    long double sum = 0;
    for (int32_t i = 0; i < n; i++)
        sum += heights[i];
    return sum;
}

double complex swing(double complex wave, double damping)
{
    return wave * damping + 1;
}

float dot(const float *heights, const float *weights, int32_t n)
{
    float sum = 0;
    for (int32_t i = 0; i < n; i++)
        sum += heights[i] * weights[i];
    return sum;
}
