#include <stdint.h>
int32_t sum_two(int32_t a, int32_t b)
{
    return a + b;
}
