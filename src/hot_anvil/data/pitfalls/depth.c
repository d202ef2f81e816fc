#include <stdint.h>

/* How deep is the water below the n-th mark? One frame on the stack for each mark. */

int32_t depth_counted(int32_t marks)
{
    int32_t depth = 0;
    for (int32_t i = 0; i < marks; i++)
        depth ^= i;
    return depth;
}

int32_t depth_called(int32_t marks)
{
    volatile char line[64];
    line[0] = (char)marks;
    if (marks <= 0)
        return 0;
    return depth_called(marks - 1) ^ (marks - 1) ^ (line[0] - (char)marks);
}
