#include <stdint.h>
#include <stdlib.h>
#include <string.h>

/* Memory that is gone, or was never asked for, though what is read there is mostly right. */

int32_t mean_freed_last(const int32_t *levels, int32_t n)
{
    int32_t *kept = malloc(sizeof *kept * (size_t)(n + 1));
    memcpy(kept, levels, sizeof *kept * (size_t)n);
    kept[n] = n;
    int32_t last = kept[n];
    free(kept);
    return last;
}

int32_t mean_freed_first(const int32_t *levels, int32_t n)
{
    int32_t *kept = malloc(sizeof *kept * (size_t)(n + 1));
    memcpy(kept, levels, sizeof *kept * (size_t)n);
    kept[n] = n;
    free(kept);
    return kept[n];
}

void slide_moved(int16_t *levels, int32_t n)
{
    if (n > 1)
        memmove(levels, levels + 1, sizeof *levels * (size_t)(n - 1));
}

void slide_copied(int16_t *levels, int32_t n)
{
    if (n > 1)
        memcpy(levels, levels + 1, sizeof *levels * (size_t)(n - 1));
}

static int32_t *inside(int32_t level)
{
    static int32_t kept;
    kept = level;
    return &kept;
}

static int32_t *outside(int32_t level)
{
    int32_t kept = level;
    int32_t *volatile where = &kept;
    return where;
}

int32_t kept_inside(int32_t level) { return *inside(level) + 1; }
int32_t kept_outside(int32_t level) { return *outside(level) + 1; }
