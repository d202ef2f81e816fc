#include <limits.h>
#include <stdint.h>
#include <string.h>

/* What compilers fold before anything can watch it, beside what the language allows. */

int32_t room_wide(int32_t level) { return (int64_t)level + 100 > INT_MAX; }
int32_t room_folded(int32_t level) { return level + 100 < level; }

int32_t mask_wide(int32_t level) { return level + (int32_t)((uint64_t)1 << 32 >> 32); }

int32_t mask_folded(int32_t level)
{
    int32_t bits = 32;
    return level + (1 << bits >> bits);
}

int32_t far_plain(int32_t level) { return level + (sizeof(int32_t) != 0); }

int32_t far_folded(int32_t level)
{
    int32_t *none = 0;
    return level + (&none[1] != 0);
}

union both { float height; int32_t bits; };

int32_t bits_copied(float height)
{
    int32_t bits;
    memcpy(&bits, &height, sizeof bits);
    return bits;
}

int32_t bits_of_union(float height)
{
    union both value = { height };
    return value.bits;
}

int32_t bits_cast(float height) { return *(int32_t *)&height; }

int32_t whole_clipped(float height)
{
    if (!(height > -2e9f && height < 2e9f))
        return 0;
    return (int32_t)height;
}

int32_t whole_hasty(float height) { return (int32_t)height; }

int32_t step_plain(int32_t level) { int32_t was = level; level += 1; return was * 10 + level; }
int32_t step_at_once(int32_t level) { return level++ * 10 + level; }
