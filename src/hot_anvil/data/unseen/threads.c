#include <pthread.h>
#include <stdatomic.h>
#include <stdint.h>

/* Threads that look as if they raced, and do not. */

static int32_t handed;
static atomic_int ready;
static _Thread_local int32_t own;

static void *give(void *level)
{
    handed = *(int32_t *)level;
    atomic_thread_fence(memory_order_release);
    atomic_store_explicit(&ready, 1, memory_order_relaxed);
    return 0;
}

int32_t hand_over(int32_t level)
{
    pthread_t other;
    atomic_store(&ready, 0);
    if (pthread_create(&other, 0, give, &level))
        return -1;
    while (!atomic_load_explicit(&ready, memory_order_relaxed))
        continue;
    atomic_thread_fence(memory_order_acquire);
    int32_t got = handed;
    pthread_join(other, 0);
    return got + 1;
}

int32_t by_itself(int32_t level)
{
    own = level;
    return own + 1;
}
