#include <stdint.h>
#include <stdlib.h>
#include <string.h>

/* Values that nobody set, which most tests find to be zero. */

struct mark { char kind; int32_t level; };

int32_t open_set(int32_t level)
{
    volatile int32_t open = 0;
    if (level > 900)
        open = 1;
    return open ? level : -level;
}

int32_t open_unset(int32_t level)
{
    volatile int32_t open;
    if (level > 900)
        open = 1;
    return open ? level : -level;
}

int32_t marks_cleared(int32_t level)
{
    struct mark one, other;
    memset(&one, 0, sizeof one);
    memset(&other, 0, sizeof other);
    one.kind = other.kind = 'h';
    one.level = other.level = level;
    return memcmp(&one, &other, sizeof one) == 0 ? level : 0;
}

int32_t marks_padded(int32_t level)
{
    struct mark one, other;
    struct mark *volatile p = &one, *volatile q = &other;
    memset(q, 0, sizeof *q);
    p->kind = q->kind = 'h';
    p->level = q->level = level;
    return memcmp(p, q, sizeof one) == 0 ? level : 0;
}

int32_t day_cleared(int32_t level)
{
    int32_t day[80000];
    memset(day, 0, sizeof day);
    day[level & 1023] = level;
    int32_t *volatile p = day;
    return p[level & 1023] + p[77777];
}

int32_t day_deep(int32_t level)
{
    int32_t day[80000];
    int32_t *volatile p = day;
    p[level & 1023] = level;
    return p[level & 1023] + (p[1500] != 0);
}

int32_t heap_cleared(int32_t level)
{
    int32_t *marks = calloc(40, sizeof *marks);
    marks[0] = level;
    int32_t sum = marks[0] + (marks[17] != 0);
    free(marks);
    return sum;
}

int32_t heap_unset(int32_t level)
{
    int32_t *volatile marks = malloc(40 * sizeof *marks);
    marks[0] = level;
    int32_t sum = marks[0] + (marks[17] != 0);
    free(marks);
    return sum;
}
