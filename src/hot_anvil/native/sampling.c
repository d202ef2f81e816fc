/* Where the time of an entry goes. */
#include "worker.h"

#include <stdlib.h>
#include <string.h>
#include <time.h>

enum { MOST = 1 << 20 };

extern const char image_start[] __asm__("__ehdr_start") __attribute__((visibility("hidden")));

static uint64_t now(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (uint64_t)t.tv_sec * 1000000000u + (uint64_t)t.tv_nsec;
}

/* Request: u16 slot, u64 calls of a batch, u64 ns to go on for, u64 mean ns between sampler.
 * Answer: u64 where the program lies, u64 calls made, u64 ns they took, u64 of each sample. */
void sample_calls(struct slot *slot, const unsigned char *request)
{
    unsigned char result[MAX_RESULT];
    uint64_t asked[3], calls = 0, took = 0, count = 0;
    memcpy(asked, request, sizeof asked);
    uint64_t *places = malloc(MOST * sizeof *places);
    if (!places || !sampler_start(asked[2], &count, places, MOST)) die(122);
    uint64_t end = now() + asked[1];
    do {
        slot_restore(slot);
        sampler_on = 1;
        uint64_t begun = now();
        slot->entry->call(&slot->target, slot->passed, asked[0], result);
        took += now() - begun;
        sampler_on = 0;
        calls += asked[0];
    } while (now() < end);
    sampler_stop();
    uint64_t head[3] = { (uint64_t)(uintptr_t)image_start, calls, took };
    size_t size = count * sizeof *places;
    unsigned char *said = malloc(sizeof head + size);
    if (!said) die(122);
    memcpy(said, head, sizeof head);
    memcpy(said + sizeof head, places, size);
    answer_with(said, sizeof head + size);
    free(said);
    free(places);
}
