#include <stdint.h>
int32_t with_product(int32_t sum, int32_t a, int32_t b)
{
    return sum + a * b;
}
