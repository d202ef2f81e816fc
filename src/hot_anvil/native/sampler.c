/* Where the processor is, sampled again and again. The samples come at random distances, so that
 * no loop falls into step with them.
 *
 * In a whole program HOT_ANVIL_SAMPLER names a descriptor of shared memory: u64 where the program
 * lies, u64 samples so far, u64 mean ns between them, then their places.
 */
#define _GNU_SOURCE
#include "worker.h"

#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <time.h>
#include <ucontext.h>
#include <unistd.h>

#ifndef sigev_notify_thread_id
#define sigev_notify_thread_id _sigev_un._tid
#endif

static struct {
    timer_t timer;
    uint64_t mean, random, most, *count, *places;
} sampler;

volatile sig_atomic_t sampler_on;
extern const char image_start[] __asm__("__ehdr_start") __attribute__((visibility("hidden")));

/* The next sample: half to one and a half times the mean from now. */
static void arm(void)
{
    sampler.random ^= sampler.random << 13;
    sampler.random ^= sampler.random >> 7;
    sampler.random ^= sampler.random << 17;
    uint64_t in = sampler.mean / 2 + sampler.random % sampler.mean;
    struct itimerspec next = { .it_value = { (time_t)(in / 1000000000u), (long)(in % 1000000000u) } };
    timer_settime(sampler.timer, 0, &next, NULL);
}

static void take_sample_now(int number, siginfo_t *info, void *context)
{
    (void)number; (void)info;
    if (sampler_on && *sampler.count < sampler.most) {
#if defined __x86_64__
        uint64_t at = (uint64_t)((ucontext_t *)context)->uc_mcontext.gregs[REG_RIP];
#elif defined __aarch64__
        uint64_t at = (uint64_t)((ucontext_t *)context)->uc_mcontext.pc;
#else
        uint64_t at = 0;
        (void)context;
#endif
        sampler.places[(*sampler.count)++] = at;
    }
    arm();
}

/* Sample this thread from now on; returns whether that can be done. */
int sampler_start(uint64_t mean, uint64_t *count, uint64_t *places, uint64_t most)
{
    struct sigevent event = { 0 };
    struct sigaction action = { 0 };
    struct timespec now;
    clock_gettime(CLOCK_MONOTONIC, &now);
    sampler.mean = mean ? mean : 1;
    sampler.random = (uint64_t)now.tv_nsec | 1;
    sampler.most = most;
    sampler.count = count;
    sampler.places = places;
    *count = 0;
    action.sa_sigaction = take_sample_now;
    action.sa_flags = SA_SIGINFO | SA_RESTART | SA_ONSTACK;
    sigaction(SIGPROF, &action, NULL);
    event.sigev_notify = SIGEV_THREAD_ID;
    event.sigev_signo = SIGPROF;
    event.sigev_notify_thread_id = (pid_t)syscall(SYS_gettid);
    if (timer_create(CLOCK_MONOTONIC, &event, &sampler.timer)) return 0;
    arm();
    return 1;
}

void sampler_stop(void) { timer_delete(sampler.timer); }

__attribute__((constructor)) static void sample_program(void)
{
    const char *number = getenv("HOT_ANVIL_SAMPLER");
    struct stat memory;
    if (!number) return;
    int descriptor = atoi(number);
    unsetenv("HOT_ANVIL_SAMPLER");
    if (fstat(descriptor, &memory) || memory.st_size < 4 * (off_t)sizeof(uint64_t)) return;
    uint64_t *shared = mmap(NULL, (size_t)memory.st_size, PROT_READ | PROT_WRITE, MAP_SHARED,
                            descriptor, 0);
    close(descriptor);
    if (shared == MAP_FAILED) return;
    shared[0] = (uint64_t)(uintptr_t)image_start;
    uint64_t most = (uint64_t)memory.st_size / sizeof(uint64_t) - 3;
    sampler_on = sampler_start(shared[2], &shared[1], shared + 3, most);
}
