#include <stdint.h>

int64_t shared_sum(const int32_t *levels, int32_t n)
{
    int64_t sum = 0;
#pragma omp parallel for reduction(+ : sum)
    for (int32_t i = 0; i < n; i++)
        sum += levels[i];
    return sum;
}
