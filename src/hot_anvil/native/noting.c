/* The record of a call in a chip's simulator: see tape.h. */
#include "noting.h"

#include "chip.h"
#include "tape.h"

enum { MOST_RANGES = 256, MOST_NOTED = 65536, MOST_REGISTERS = 40 };
struct range { uint32_t first, end; };
struct noted { int how; uint32_t address; unsigned char before; };

static struct range ranges[MOST_RANGES];
static uint32_t range_count;
static uint64_t most, steps;
static int on, open_step, beyond;
static uint32_t step_at;
static struct noted noted[MOST_NOTED];
static unsigned noted_count;
static uint64_t known[MOST_REGISTERS];

const unsigned char *note_from(const unsigned char *request)
{
    memcpy(&most, request, 8);
    memcpy(&range_count, request + 8, 4);
    if (range_count > MOST_RANGES) chip_fail("more stretches of code than can be noted");
    memcpy(ranges, request + 12, range_count * sizeof *ranges);
    on = 1;
    open_step = beyond = 0;
    steps = 0;
    return request + 12 + range_count * sizeof *ranges;
}

static int own(uint32_t at)
{
    for (uint32_t i = 0; i < range_count; i++)
        if (at >= ranges[i].first && at < ranges[i].end) return 1;
    return 0;
}

void chip_note(int how, uint32_t address)
{
    if (!on || noted_count == MOST_NOTED) return;
    if (how == READ && beyond) return; /* of other code only what it changes counts */
    noted[noted_count++] = (struct noted){ how, address, chip_memory[address & 0xffff] };
}

static void put_registers(int every)
{
    uint64_t values[MOST_REGISTERS];
    unsigned char bytes[MOST_REGISTERS];
    unsigned count = chip_registers(values, bytes);
    for (unsigned i = 0; i < count; i++)
        if (every || values[i] != known[i]) tape_register((uint8_t)i, &values[i], bytes[i]);
    memcpy(known, values, sizeof known);
}

/* The step that was open is complete: code under study goes on, or the call is over. */
static void complete(void)
{
    unsigned char before[256], after[256];
    if (!open_step) return;
    open_step = 0;
    tape_begin(step_at);
    for (unsigned i = 0; i < noted_count;) {
        const struct noted *first = &noted[i];
        unsigned size = 0;
        while (i < noted_count && size < 255 && noted[i].how == first->how
               && noted[i].address == first->address + size) {
            before[size] = noted[i].before;
            after[size++] = chip_memory[noted[i++].address & 0xffff];
        }
        tape_access(first->how == WRITE, first->address, first->how == WRITE ? before : NULL,
                    after, size);
    }
    noted_count = 0;
    put_registers(0);
    tape_end(beyond ? TAPE_BEYOND : 0, 2);
    beyond = 0;
}

void note_begin(void)
{
    if (!on) return;
    if (!own(chip_at())) {
        beyond = open_step;
        return;
    }
    complete();
    if (!steps) {
        tape_begin(0);
        put_registers(1);
        tape_end(0, 2);
    }
    if (steps++ == most) {
        tape_begin(chip_at());
        tape_end(TAPE_FULL, 2);
        tape_flush(2);
        _exit(0); /* what comes of the call is known from one that was not recorded */
    }
    step_at = chip_at();
    noted_count = 0;
    open_step = 1;
}


void note_over(void)
{
    complete();
    tape_flush(2);
    on = 0;
}
