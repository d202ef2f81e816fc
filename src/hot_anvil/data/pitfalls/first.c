#include <stddef.h>
#include <stdint.h>

/* The first level above the mark, 0 when there is none. */

static const int16_t *find(const int16_t *levels, int32_t n, int16_t mark)
{
    for (int32_t i = 0; i < n; i++)
        if (levels[i] > mark)
            return &levels[i];
    return NULL;
}

int32_t first_asked(const int16_t *levels, int32_t n, int16_t mark)
{
    const int16_t *found = find(levels, n, mark);
    return found ? *found : 0;
}

int32_t first_trusted(const int16_t *levels, int32_t n, int16_t mark)
{
    const int16_t *found = find(levels, n, mark);
    return *found;
}
