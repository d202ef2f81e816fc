#include <stdint.h>
#include <stdlib.h>
#include <string.h>

/* The greatest level by way of a copy: freed once, freed twice, read after it was freed. */

static int16_t greatest(const int16_t *levels, int32_t n)
{
    int16_t most = INT16_MIN;
    for (int32_t i = 0; i < n; i++)
        most = levels[i] > most ? levels[i] : most;
    return most;
}

int32_t buffer_freed(const int16_t *levels, int32_t n)
{
    int16_t *copy = malloc(64 + 2 * (size_t)n);
    memcpy(copy, levels, 2 * (size_t)n);
    int32_t most = greatest(copy, n);
    free(copy);
    return most;
}

int32_t buffer_freed_twice(const int16_t *levels, int32_t n)
{
    int16_t *copy = malloc(64 + 2 * (size_t)n);
    memcpy(copy, levels, 2 * (size_t)n);
    int32_t most = greatest(copy, n);
    free(copy);
    __asm__("" : "+r"(copy));
    free(copy);
    return most;
}

int32_t buffer_read_late(const int16_t *levels, int32_t n)
{
    int16_t *copy = malloc(64 + 2 * (size_t)n);
    memcpy(copy, levels, 2 * (size_t)n);
    free(copy);
    return greatest(copy, n);
}
