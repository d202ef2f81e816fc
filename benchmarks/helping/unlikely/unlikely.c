#include <stdint.h>
int32_t alarm_sum(const int32_t *levels, int32_t limit, int32_t n)
{
    int32_t sum = 1;
    for (int32_t i = 0; i < n; i++)
        if (levels[i] > limit)
            sum = ((sum ^ levels[i]) + (sum >> 3)) ^ 21;
    return sum;
}
