/* Several threads that call an entry at once, each with values of its own. */
#define _GNU_SOURCE
#include "worker.h"

#include <pthread.h>
#include <sched.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

struct hand {
    struct slot *slot;
    uint64_t calls;
    pthread_t thread;
};

static atomic_uint ready, done;
static atomic_int go;

static void *work(void *given)
{
    struct hand *hand = given;
    unsigned char result[MAX_RESULT];
    atomic_fetch_add(&ready, 1);
    while (!atomic_load(&go)) sched_yield();
    hand->slot->entry->call(&hand->slot->target, hand->slot->passed, hand->calls, result);
    atomic_fetch_add(&done, 1);
    return NULL;
}

static uint64_t now(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (uint64_t)t.tv_sec * 1000000000u + (uint64_t)t.tv_nsec;
}

/* Return the ns from when all may start to when the last of them has made its calls. */
uint64_t threads_batch(struct slot *slot, uint64_t calls, void *result)
{
    unsigned count = slot->others;
    struct hand *hands = calloc(count, sizeof *hands);
    if (!hands) die(122);
    atomic_store(&ready, 0);
    atomic_store(&done, 0);
    atomic_store(&go, 0);
    for (unsigned i = 0; i < count; i++) {
        hands[i].slot = &slot->threads[i];
        hands[i].calls = calls;
        if (pthread_create(&hands[i].thread, NULL, work, &hands[i])) die(125);
    }
    while (atomic_load(&ready) < count) sched_yield();
    uint64_t start = now();
    atomic_store(&go, 1);
    slot->entry->call(&slot->target, slot->passed, calls, result);
    while (atomic_load(&done) < count) sched_yield();
    uint64_t took = now() - start;
    for (unsigned i = 0; i < count; i++) pthread_join(hands[i].thread, NULL);
    free(hands);
    return took;
}

/* Request: u16 slot, u16 threads in all. */
void threads_make(struct slot *slot, const unsigned char *request)
{
    uint16_t threads;
    memcpy(&threads, request, 2);
    if (threads < 2) die(123);
    slot->threads = calloc(threads - 1u, sizeof *slot->threads);
    if (!slot->threads) die(122);
    slot->others = threads - 1u;
    for (unsigned i = 0; i < slot->others; i++) slot_copy(&slot->threads[i], slot);
    answer_with("", 0);
}
