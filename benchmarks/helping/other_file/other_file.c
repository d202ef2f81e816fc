#include <stdint.h>
int32_t feet_of(int32_t level);
void to_feet(int32_t *feet, const int32_t *levels, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        feet[i] = feet_of(levels[i]);
}
