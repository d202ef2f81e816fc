#include <stdint.h>
int32_t chase(const int32_t *next, int32_t n)
{
    int32_t at = 0;
    for (int32_t i = 0; i < n; i++)
        at = next[at & 1023];
    return at;
}
