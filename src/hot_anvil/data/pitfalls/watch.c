#include <pthread.h>
#include <stdatomic.h>
#include <stdint.h>

/* Two watches count high water at the same time. */

struct shift {
    const int16_t *levels;
    int32_t n;
};

static atomic_int seen_by_both;
static int seen;

static void *count_atomic(void *given)
{
    struct shift *shift = given;
    for (int32_t i = 0; i < shift->n; i++)
        if (shift->levels[i] > 0)
            atomic_fetch_add(&seen_by_both, 1);
    return 0;
}

static void *count_plain(void *given)
{
    struct shift *shift = given;
    for (int32_t i = 0; i < shift->n; i++)
        if (shift->levels[i] > 0)
            *(volatile int *)&seen += 1;
    return 0;
}

static void both(void *(*watch)(void *), const int16_t *levels, int32_t n)
{
    struct shift shift = { levels, n };
    pthread_t first, second;
    pthread_create(&first, 0, watch, &shift);
    pthread_create(&second, 0, watch, &shift);
    pthread_join(first, 0);
    pthread_join(second, 0);
}

int32_t watch_atomic(const int16_t *levels, int32_t n)
{
    seen_by_both = 0;
    both(count_atomic, levels, n);
    return seen_by_both;
}

int32_t watch_racing(const int16_t *levels, int32_t n)
{
    seen = 0;
    both(count_plain, levels, n);
    return seen;
}
