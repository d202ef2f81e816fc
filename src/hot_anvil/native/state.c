/* Does a call depend on what an earlier call left in the buffers that it writes?
 *
 * Tried in a process of its own, which may crash on values nobody promised: called once on the
 * first values and once with every byte changed in the buffers that the first call wrote to.
 * What is written over without being read comes out the same. A stretch at a buffer's start or
 * end that keeps the change was not written; anything else that differs was read.
 */
#define _GNU_SOURCE
#include "worker.h"

#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

enum { FIRST_SIGNAL = 1, LAST_SIGNAL = 31, PATIENCE = 10 /* seconds */ };

static int differs(const unsigned char *once, const unsigned char *again,
                   const unsigned char *initial, size_t size)
{
    size_t start = 0, end = size;
    while (start < size && once[start] == initial[start] && again[start] == (initial[start] ^ 1))
        start++;
    while (end > start && once[end - 1] == initial[end - 1] &&
           again[end - 1] == (initial[end - 1] ^ 1))
        end--;
    return memcmp(once + start, again + start, end - start) != 0;
}

static void call(struct slot *slot, unsigned char *result)
{
    memset(result, 0, MAX_RESULT);
    slot->entry->call(&slot->target, slot->passed, 1, result);
}

static int reads_what_it_wrote(struct slot *slot)
{
    static unsigned char first[MAX_RESULT], second[MAX_RESULT];
    unsigned char *left[MAX_ARGS] = { 0 };
    int changed = 0;
    slot_restore(slot);
    call(slot, first);
    for (unsigned i = 0; i < slot->count; i++) {
        struct argument *a = &slot->args[i];
        if (!a->pristine || !memcmp(a->base, a->pristine, a->size)) continue;
        changed = 1;
        if (!(left[i] = malloc(a->size + 1))) return 1;
        memcpy(left[i], a->base, a->size);
    }
    if (!changed) return 0;
    slot_restore(slot);
    for (unsigned i = 0; i < slot->count; i++)
        for (size_t k = 0; left[i] && k < slot->args[i].size; k++) slot->args[i].base[k] ^= 1;
    call(slot, second);
    if (slot->entry->returns != 2 && memcmp(first, second, MAX_RESULT)) return 1;
    for (unsigned i = 0; i < slot->count; i++) {
        const struct argument *a = &slot->args[i];
        if (left[i] && differs(left[i], a->base, a->pristine, a->size)) return 1;
    }
    return 0;
}

void find_state(struct slot *slot)
{
    int status = 1;
    if (!slot->entry->prepare) { /* a driver's objects are its own affair: always made anew */
        pid_t child = fork();
        if (child == 0) {
            prctl(PR_SET_PDEATHSIG, SIGKILL);
            for (int number = FIRST_SIGNAL; number <= LAST_SIGNAL; number++)
                signal(number, SIG_DFL);
            alarm(PATIENCE);
            _exit(reads_what_it_wrote(slot));
        }
        if (child < 0 || waitpid(child, &status, 0) < 0) status = 1;
    }
    unsigned char said = status != 0;
    answer_with(&said, 1);
}
