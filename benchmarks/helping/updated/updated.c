#include <stdint.h>
void update(int32_t *level, int32_t by);
void update_all(int32_t *levels, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        update(&levels[i], i);
}
