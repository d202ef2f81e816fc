/* Which places of an instrumented build were reached: compilers call this at each basic block. */
#include "worker.h"

#include <stdlib.h>
#include <string.h>

enum { PLACES = 1 << 16 };

static uint64_t places[PLACES]; /* offsets from the program's start, hashed */
static uint32_t reached;

void __sanitizer_cov_trace_pc(void)
{
    uint64_t at = (uintptr_t)__builtin_return_address(0) - program_base();
    uint32_t slot = (uint32_t)(at * 0x9e3779b97f4a7c15u >> 48);
    while (places[slot] && places[slot] != at) slot = (slot + 1) % PLACES;
    if (places[slot] || reached > PLACES / 2) return;
    places[slot] = at;
    reached++;
}

/* Answer: u64 offset of each place, behind the call that told it. */
void tell_reached(void)
{
    uint64_t *found = malloc((reached + 1u) * sizeof *found);
    uint32_t count = 0;
    if (!found) die(122);
    for (uint32_t i = 0; i < PLACES; i++)
        if (places[i]) found[count++] = places[i];
    answer_with(found, count * sizeof *found);
    free(found);
}
