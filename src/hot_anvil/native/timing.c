/* Timing: the first call, how many calls fill a sample, and batches of several samples.
 *
 * "Alone": every call starts from the first values, because calls change what later ones read: it
 * is timed by itself, or on one of many copies that are called in a row (copies.c). Else a sample
 * is one batch of calls between two looks at the clock. "Cold": one call, after all that it would
 * find warm was displaced (cold.c).
 */
#define _GNU_SOURCE
#include "worker.h"

#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>
#include <time.h>

enum { ALONE = 1, COLD = 2 }; /* how a batch is made */
enum { TRIES = 3, PROBE_PASSES = 20000, BATCH = 13 /* bytes that ask for one */ };

struct sample {
    uint64_t wall, cpu, away; /* ns of the calls; ns off the CPU, restoring included */
};

static uint64_t now(clockid_t clock)
{
    struct timespec t;
    clock_gettime(clock, &t);
    return (uint64_t)t.tv_sec * 1000000000u + (uint64_t)t.tv_nsec;
}

/* In a section of its own: counting ends where this goes on. */
__attribute__((noinline, section("hot_anvil_caller")))
static uint64_t batch(struct slot *slot, uint64_t calls, void *result)
{
    if (slot->others) return threads_batch(slot, calls, result);
    uint64_t start = now(CLOCK_MONOTONIC);
    slot->entry->call(&slot->target, slot->passed, calls, result);
    return now(CLOCK_MONOTONIC) - start;
}

static uint64_t restore(struct slot *slot)
{
    uint64_t start = now(CLOCK_MONOTONIC);
    slot_restore(slot);
    return now(CLOCK_MONOTONIC) - start;
}

/* In the section where counting ends, like `batch`. */
__attribute__((noinline, section("hot_anvil_caller")))
static uint64_t batch_of_copies(struct slot *slot, unsigned count, void *result)
{
    uint64_t start = now(CLOCK_MONOTONIC);
    copies_call(slot, count, result);
    return now(CLOCK_MONOTONIC) - start;
}

/* Return the ns of `calls` calls, and add to `restoring` what putting values back took. */
static uint64_t calls_alone(struct slot *slot, uint64_t calls, void *result, uint64_t *restoring)
{
    uint64_t took = 0;
    unsigned copies = calls > 1 ? copies_count(slot) : 0;
    for (uint64_t left = calls; copies && left;) {
        unsigned count = left < copies ? (unsigned)left : copies;
        uint64_t start = now(CLOCK_MONOTONIC);
        copies_restore(slot, count);
        *restoring += now(CLOCK_MONOTONIC) - start;
        took += batch_of_copies(slot, count, result);
        left -= count;
    }
    if (copies) return took;
    for (uint64_t i = 0; i < calls; i++) {
        *restoring += restore(slot);
        took += batch(slot, 1, result);
    }
    return took;
}

void time_first(struct slot *slot)
{
    unsigned char result[MAX_RESULT];
    struct rusage before, after;
    slot_restore(slot);
    getrusage(RUSAGE_SELF, &before);
    uint64_t said[2] = { batch(slot, 1, result), 0 };
    getrusage(RUSAGE_SELF, &after);
    said[1] = (uint64_t)(after.ru_minflt - before.ru_minflt);
    answer_with(said, sizeof said);
}

void calibrate(struct slot *slot, const unsigned char *request)
{
    unsigned char result[MAX_RESULT];
    uint64_t wanted, calls = 1, best = 0;
    memcpy(&wanted, request, 8);
    int alone = request[8];
    for (;;) {
        best = UINT64_MAX;
        for (int i = 0; i < TRIES; i++) {
            uint64_t restoring = 0, took;
            if (alone) took = calls_alone(slot, calls, result, &restoring);
            else { slot_restore(slot); took = batch(slot, calls, result); }
            if (took < best) best = took;
        }
        if (best >= wanted / 2 || calls > (UINT64_C(1) << 40)) break;
        uint64_t grow = best ? wanted / best : 10;
        calls *= grow < 2 ? 2 : grow > 10 ? 10 : grow;
    }
    uint64_t said[3] = { calls, best, alone ? copies_count(slot) : 0 };
    answer_with(said, sizeof said);
}

#if defined __x86_64__ || defined __i386__
#define TWICE(r) "add " r ", " r "\n\t"
#else
#define TWICE(r) "add " r ", " r ", " r "\n\t"
#endif

/* Four chains of additions that the processor can run side by side: fast on a quiet core,
 * slower when a neighbour shares it. */
static uint64_t probe(void)
{
    unsigned long a = 1, b = 2, c = 3, d = 4;
    uint64_t start = now(CLOCK_MONOTONIC);
    for (int i = 0; i < PROBE_PASSES; i++)
        __asm__ volatile(TWICE("%0") TWICE("%1") TWICE("%2") TWICE("%3")
                         : "+r"(a), "+r"(b), "+r"(c), "+r"(d));
    return now(CLOCK_MONOTONIC) - start;
}

void time_probe(void)
{
    uint64_t said = probe();
    answer_with(&said, sizeof said);
}

/* What surrounds the call is fetched again, so that only the call's own is missing. */
static struct sample take_cold_sample(struct slot *slot, uint64_t *restoring)
{
    unsigned char result[MAX_RESULT];
    struct sample said;
    uint64_t start = now(CLOCK_MONOTONIC);
    slot_restore(slot);
    displace();
    slot->entry->call(&slot->target, slot->passed, 0, result);
    uint64_t cpu = now(CLOCK_THREAD_CPUTIME_ID);
    *restoring += now(CLOCK_MONOTONIC) - start;
    start = now(CLOCK_MONOTONIC);
    said.wall = batch(slot, 1, result);
    uint64_t whole = now(CLOCK_MONOTONIC) - start;
    said.cpu = now(CLOCK_THREAD_CPUTIME_ID) - cpu;
    said.away = whole > said.cpu ? whole - said.cpu : 0;
    return said;
}

static struct sample take_sample(struct slot *slot, uint64_t calls, int how, uint64_t *restoring)
{
    if (how & COLD) return take_cold_sample(slot, restoring);
    int alone = how & ALONE;
    unsigned char result[MAX_RESULT];
    struct sample said;
    int apart = alone && calls > 1;
    if (!apart) *restoring += restore(slot);
    uint64_t start = now(CLOCK_MONOTONIC), cpu = now(CLOCK_THREAD_CPUTIME_ID);
    said.wall = apart ? calls_alone(slot, calls, result, restoring) : batch(slot, calls, result);
    cpu = now(CLOCK_THREAD_CPUTIME_ID) - cpu;
    uint64_t whole = now(CLOCK_MONOTONIC) - start;
    said.cpu = apart ? said.wall : cpu;
    said.away = whole > cpu ? whole - cpu : 0;
    return said;
}

/* Nothing is sent before the last batch: who reads it would wake up in between. */
void time_batches(const unsigned char *request, struct slot *(*slot_of)(const unsigned char *))
{
    uint32_t batches;
    size_t size = 0;
    memcpy(&batches, request, 4);
    const unsigned char *first = request + 4, *end = first + (size_t)batches * BATCH;
    for (const unsigned char *p = first; p < end; p += BATCH) {
        uint16_t samples;
        memcpy(&samples, p + 2, 2);
        size += sizeof(uint64_t) * (3 + 3 * (size_t)samples);
    }
    uint64_t *said = malloc(size + 1), *at = said;
    if (!said) die(122);
    for (const unsigned char *p = first; p < end; p += BATCH) {
        struct slot *slot = slot_of(p);
        uint16_t samples;
        uint64_t calls, restoring = 0;
        struct rusage before, after;
        memcpy(&samples, p + 2, 2);
        memcpy(&calls, p + 5, 8);
        called_slot = slot;
        getrusage(RUSAGE_SELF, &before);
        *at = probe();
        for (int i = 0; i < samples; i++) {
            struct sample one = take_sample(slot, calls, p[4], &restoring);
            memcpy(at + 3 + 3 * i, &one, sizeof one);
        }
        getrusage(RUSAGE_SELF, &after);
        at[1] = restoring / samples / (p[4] ? calls : 1);
        at[2] = (uint64_t)(after.ru_nvcsw - before.ru_nvcsw);
        at += 3 + 3 * samples;
    }
    answer_with(said, size);
    free(said);
}
