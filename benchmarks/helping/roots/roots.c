#include <stdint.h>
#include <math.h>
double roots(double x, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        x = x / 3.0 + 1.0 / x;
    return x;
}
