#include <stdint.h>
void raised_both(int32_t *levels, int32_t *feet, const int32_t *by, int32_t n)
{
    for (int32_t i = 0; i < n; i++) {
        levels[i] += *by;
        feet[i] -= *by;
    }
}
