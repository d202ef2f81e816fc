#include <stdint.h>
int32_t alarm_sum(const int32_t *levels, int32_t limit, int32_t n)
{
    int32_t sum = 0, seen = 1;
    for (int32_t i = 0; i < n; i++) {
        if (levels[i] > limit) {
            seen = seen * 31 + levels[i] / (seen | 1);
            sum ^= seen >> 3;
            sum += seen % 7;
        }
        sum += levels[i];
    }
    return sum;
}
