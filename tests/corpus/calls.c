/* Calls between small functions of a gauge. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

int probe(int);
int sensor(int, int);
extern int total;

static int half(int level)
{
    return level / 2 + total;
}

int middle(int low, int high)
{
    return half(low) + half(high);
}

int forward(int level)
{
    return probe(level + 1);
}

int twice(int level)
{
    return probe(level) + probe(level + 1);
}

int count_down(int level)
{
    if (level <= 0)
        return 0;
    return count_down(level - 7);
}

long product(long n)
{
    if (n < 2)
        return 1;
    return n * product(n - 1);
}

static int plus_one(int level)
{
    return level + total;
}

int through(int level)
{
    int (*step)(int) = plus_one;
    return step(level) * 5;
}

void report(void)
{
    printf("high water\n");
}

size_t name_length(void)
{
    return strlen("outer quay");
}

struct frame { int level[4]; };

void copy_frame(struct frame *to, const struct frame *from)
{
    memcpy(to, from, sizeof *to);
}

int unused_probe(int a, int b)
{
    int waste = a * b;
    (void)waste;
    return a + 1;
}

int guarded(int level)
{
    char text[32];
    sprintf(text, "%d", level);
    return text[0];
}

int certain(int level)
{
    if (level < 0)
        abort();
    return level & 0x7fffffff;
}

#include <assert.h>

int level_at(const int *level, int i)
{
    assert(i >= 0 && i < 8);
    return level[i];
}

void mark(int *done)
{
#ifndef QUIET
    __asm__ volatile("nop" ::: "memory");
#endif
    *done = 1;
}
