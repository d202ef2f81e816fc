/* Where the time goes: the instruction that runs, looked at again and again while an entry is
 * called. The looks come at random distances, so that no loop falls into step with them.
 */
#define _GNU_SOURCE
#include "worker.h"

#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/syscall.h>
#include <time.h>
#include <ucontext.h>
#include <unistd.h>

enum { MOST = 1 << 20 };

#ifndef sigev_notify_thread_id
#define sigev_notify_thread_id _sigev_un._tid
#endif

static struct {
    volatile sig_atomic_t on;
    timer_t timer;
    uint64_t mean, random, count, *places;
} sampler;

extern const char image_start[] __asm__("__ehdr_start") __attribute__((visibility("hidden")));

static uint64_t now(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (uint64_t)t.tv_sec * 1000000000u + (uint64_t)t.tv_nsec;
}

/* The next look: half to one and a half times the mean from now. */
static void arm(void)
{
    sampler.random ^= sampler.random << 13;
    sampler.random ^= sampler.random >> 7;
    sampler.random ^= sampler.random << 17;
    uint64_t in = sampler.mean / 2 + sampler.random % sampler.mean;
    struct itimerspec next = { .it_value = { (time_t)(in / 1000000000u), (long)(in % 1000000000u) } };
    timer_settime(sampler.timer, 0, &next, NULL);
}

static void look(int number, siginfo_t *info, void *context)
{
    (void)number; (void)info;
    if (sampler.on && sampler.count < MOST) {
#if defined __x86_64__
        uint64_t at = (uint64_t)((ucontext_t *)context)->uc_mcontext.gregs[REG_RIP];
#elif defined __aarch64__
        uint64_t at = (uint64_t)((ucontext_t *)context)->uc_mcontext.pc;
#else
        uint64_t at = 0;
        (void)context;
#endif
        sampler.places[sampler.count++] = at;
    }
    arm();
}

static void start(uint64_t mean)
{
    struct sigevent event = { 0 };
    struct sigaction action = { 0 };
    sampler.mean = mean ? mean : 1;
    sampler.random = now() | 1;
    sampler.count = 0;
    sampler.places = malloc(MOST * sizeof *sampler.places);
    if (!sampler.places) die(122);
    action.sa_sigaction = look;
    action.sa_flags = SA_SIGINFO | SA_RESTART | SA_ONSTACK;
    sigaction(SIGPROF, &action, NULL);
    event.sigev_notify = SIGEV_THREAD_ID;
    event.sigev_signo = SIGPROF;
    event.sigev_notify_thread_id = (pid_t)syscall(SYS_gettid);
    if (timer_create(CLOCK_MONOTONIC, &event, &sampler.timer)) die(125);
    arm();
}

/* Request: u16 slot, u64 calls of a batch, u64 ns to go on for, u64 mean ns between looks.
 * Answer: u64 where the program lies, u64 calls made, u64 ns they took, u64 of each look. */
void sample_calls(struct slot *slot, const unsigned char *request)
{
    unsigned char result[MAX_RESULT];
    uint64_t asked[3], calls = 0, took = 0;
    memcpy(asked, request, sizeof asked);
    start(asked[2]);
    uint64_t end = now() + asked[1];
    do {
        slot_restore(slot);
        sampler.on = 1;
        uint64_t begun = now();
        slot->entry->call(&slot->target, slot->passed, asked[0], result);
        took += now() - begun;
        sampler.on = 0;
        calls += asked[0];
    } while (now() < end);
    timer_delete(sampler.timer);
    uint64_t head[3] = { (uint64_t)(uintptr_t)image_start, calls, took };
    size_t size = sampler.count * sizeof *sampler.places;
    unsigned char *said = malloc(sizeof head + size);
    if (!said) die(122);
    memcpy(said, head, sizeof head);
    memcpy(said + sizeof head, sampler.places, size);
    answer_with(said, sizeof head + size);
    free(said);
    free(sampler.places);
}
