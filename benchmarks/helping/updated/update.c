#include <stdint.h>
void update(int32_t *level, int32_t by)
{
    *level = (*level + by) >> 1;
}
