#include <stdint.h>
#include <string.h>

/* A mark and a height share their memory, the height written last. The second reaches it as two
 * types, and a compiler may take it that those are two places. */

int32_t sign_copied(int32_t *marks, float *heights, int32_t n)
{
    int32_t seen = 0;
    for (int32_t i = 0; i < n; i++) {
        int32_t mark = 7;
        float height = 0.5f;
        memcpy(&marks[i], &mark, sizeof mark);
        memcpy(&heights[i], &height, sizeof height);
        memcpy(&mark, &marks[i], sizeof mark);
        seen += mark & 0xff;
    }
    return seen;
}

int32_t sign_punned(int32_t *marks, float *heights, int32_t n)
{
    int32_t seen = 0;
    for (int32_t i = 0; i < n; i++) {
        marks[i] = 7;
        heights[i] = 0.5f;
        seen += marks[i] & 0xff;
    }
    return seen;
}
