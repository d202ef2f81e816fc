#include <stdint.h>
#include <stdlib.h>
#include <string.h>

/* Sound code on memory: copies of its own, overlaps that are allowed, bytes that lie anywhere. */

static int compare(const void *a, const void *b)
{
    int16_t left = *(const int16_t *)a, right = *(const int16_t *)b;
    return (left > right) - (left < right);
}

int32_t median(const int16_t *levels, int32_t n)
{
    if (n <= 0)
        return 0;
    int16_t *own = malloc(2 * (size_t)n);
    memcpy(own, levels, 2 * (size_t)n);
    qsort(own, (size_t)n, 2, compare);
    int32_t middle = own[n / 2];
    free(own);
    return middle;
}

void push(int16_t *levels, int32_t n)
{
    if (n > 1)
        memmove(levels + 1, levels, 2 * (size_t)(n - 1));
}

int32_t anywhere(const uint8_t *frame)
{
    int32_t value;
    memcpy(&value, frame + 1, sizeof value);
    return value;
}

void blend(int16_t *out, const int16_t *levels, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        out[i] = (int16_t)((out[i] + levels[i]) / 2);
}

const int16_t *highest(const int16_t *levels, int32_t n)
{
    const int16_t *best = NULL;
    for (int32_t i = 0; i < n; i++)
        if (!best || levels[i] > *best)
            best = &levels[i];
    return best;
}

int32_t letters(const char *name)
{
    return (int32_t)strlen(name);
}

int32_t deep(int32_t marks)
{
    return marks <= 0 ? 0 : 1 + deep(marks - 1);
}
