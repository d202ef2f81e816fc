#include <stdint.h>
int32_t feet_of(int32_t level)
{
    return level * 3 + (level >> 2);
}
