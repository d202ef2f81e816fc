/* Input sets in a board's memory, and what calls leave in it: what ../slots.c is elsewhere.
 *
 * Values lie in memory of their own, each with closed bytes beside it on the side that it is tight
 * against, as far as the processor has regions for that; what lies around others, and what the
 * entry may not write, is compared after the call.
 */
#include "board.h"
#include "worker.h"

#include <string.h>

enum { HEAD = 16 /* bytes of an output */, WORDS = 32 /* of 8 bytes, of a value */ };

struct slot slot;
static uint64_t scalars[MAX_ARGS][WORDS];
static const unsigned char *given[MAX_ARGS]; /* the first contents of buffers */
static struct { uint64_t offset, size; } *watched;
static uint32_t watched_count;
static unsigned char *first_values; /* of those watched, NULL where they are not put back */

#define buffer_memory (payload_memory + PAYLOAD)
#define watch_memory (output_memory + OUTPUTS * OUTPUT)

static uint64_t number(const unsigned char **at, unsigned bytes)
{
    uint64_t value = 0;
    memcpy(&value, *at, bytes);
    *at += bytes;
    return value;
}

/* Input sets. */

static unsigned char *after(unsigned char *at, size_t boundary)
{
    return (unsigned char *)(((uintptr_t)at + boundary - 1) / boundary * boundary);
}

/* Places a buffer from `from` on; returns the end of what it takes. */
static unsigned char *place(struct argument *a, unsigned char *from, int exact, int where)
{
    size_t align = a->align > 1 ? a->align : 1;
    size_t room = (size_t)after((unsigned char *)(a->size + 2 * align), GUARD);
    size_t offset = where == END ? (room - a->size) / align * align : 0;
    if (exact && offset / align % 2 == 0)
        offset = where == END && offset >= align ? offset - align : offset + align;
    a->map = after(from, GUARD > align ? GUARD : align);
    a->map_size = room + 2 * GUARD;
    a->base = a->map + GUARD + offset;
    a->pointer = a->base;
    return a->map + a->map_size;
}

static int lay_out_one(struct argument *a, const unsigned char **p, int where, int region,
                       unsigned char **free)
{
    a->kind = (int)number(p, 1);
    a->writable = (int)number(p, 1);
    int exact = (int)number(p, 1);
    a->align = number(p, 2);
    a->size = number(p, 8);
    a->value = &a->pointer;
    if (a->kind == BUFFER) {
        if (a->size > VALUES || *free + 4 * (a->size + a->align) + 4 * GUARD > output_memory) return 0;
        *free = place(a, *free, exact, where);
        memset(a->map, slot.pattern, a->map_size);
        unsigned char *beside = where == END ? *free - GUARD : a->map;
        if (region < REGIONS && where != LINE) close_memory(region, (uint32_t)beside);
        given[a - slot.args] = *p;
    } else {
        if (a->size > sizeof *scalars) return 0;
        a->value = memcpy(scalars[a - slot.args], *p, a->size);
    }
    *p += a->size;
    return 1;
}

/* Lays out a SET: head of ../worker.c; put_back() fills its buffers. Returns 0 where there is no
 * room. */
int lay_out(const unsigned char *p)
{
    unsigned char *free = buffer_memory;
    slot.entry = &hot_anvil_entries[number(&p, 2)];
    slot.target = slot.entry->target;
    slot.count = (unsigned)number(&p, 2);
    int where = (int)number(&p, 1), region = FIRST_FREE;
    slot.pattern = (int)number(&p, 1);
    for (int closed = FIRST_FREE; closed < REGIONS; closed++) close_memory(closed, 0);
    for (unsigned i = 0; i < slot.count; i++) {
        if (!lay_out_one(&slot.args[i], &p, where, region, &free)) return 0;
        region += slot.args[i].kind == BUFFER;
    }
    for (unsigned i = 0; i < slot.count; i++) {
        struct argument *a = &slot.args[i];
        int64_t said[2];
        if (a->kind == ALIAS) {
            memcpy(said, a->value, sizeof said);
            a->pointer = slot.args[said[0]].base + said[1];
            a->value = &a->pointer;
        }
        slot.passed[i] = a->value;
    }
    return 1;
}

void put_back(void)
{
    const unsigned char *at = first_values;
    for (unsigned i = 0; i < slot.count; i++)
        if (slot.args[i].kind == BUFFER) memcpy(slot.args[i].base, given[i], slot.args[i].size);
    for (uint32_t i = 0; at && i < watched_count; at += watched[i++].size)
        memcpy((void *)(uintptr_t)watched[i].offset, at, watched[i].size);
}

int buffer_at(uint32_t address, int64_t *offset)
{
    for (unsigned i = 0; i < slot.count; i++) {
        const struct argument *a = &slot.args[i];
        uint32_t start = (uint32_t)a->map;
        if (a->kind != BUFFER || address < start || address >= start + a->map_size) continue;
        *offset = (int64_t)address - (int64_t)(uintptr_t)a->base;
        return (int)i;
    }
    return -1;
}

/* Outputs. */

static size_t result_size(void)
{
    return slot.entry->returns == 2 ? PLACE : slot.entry->returns ? slot.entry->result_size : 0;
}

static void place_pointer(unsigned char *result)
{
    uint32_t pointer;
    int64_t said[2] = { -2, 0 };
    memcpy(&pointer, result, sizeof pointer);
    if (!pointer) said[0] = -1;
    for (unsigned i = 0; pointer && i < slot.count; i++) {
        const struct argument *a = &slot.args[i];
        uint32_t base = (uint32_t)a->base;
        if (a->kind != BUFFER || pointer < base || pointer > base + a->size) continue;
        said[0] = (int64_t)i;
        said[1] = (int64_t)(pointer - base);
        break;
    }
    memcpy(result, said, sizeof said);
}

/* Find a byte beside a buffer, or in one that may not be written, that is not what it was. */
static int32_t damaged(int64_t *offset)
{
    for (unsigned i = 0; i < slot.count; i++) {
        const struct argument *a = &slot.args[i];
        if (a->kind != BUFFER) continue;
        unsigned char *first = a->map, *end = a->map + a->map_size;
        for (int k = FIRST_FREE; k < REGIONS; k++) close_memory(k, 0);
        for (unsigned char *p = first; p < end; p++) {
            int inside = p >= a->base && p < a->base + a->size;
            int kept = !inside ? *p == slot.pattern : a->writable || *p == given[i][p - a->base];
            if (kept) continue;
            *offset = p - a->base;
            return (int32_t)i;
        }
    }
    return -1;
}

uint32_t output_size(void)
{
    size_t size = HEAD + result_size();
    for (unsigned i = 0; i < slot.count; i++)
        if (slot.args[i].kind == BUFFER && slot.args[i].writable) size += slot.args[i].size;
    for (uint32_t i = 0; i < watched_count; i++) size += watched[i].size;
    return size;
}

/* An OUTPUT: head of ../slots.c. */
void put_output(unsigned char *output, const unsigned char *result, uint32_t left)
{
    int64_t offset = 0;
    int32_t where = slot.pattern ? damaged(&offset) : -1;
    memcpy(output, &where, 4);
    memcpy(output + 4, &offset, 8);
    memcpy(output + 12, &left, 4);
    memcpy(output + HEAD, result, slot.entry->returns == 2 ? sizeof(uint32_t) : result_size());
    if (slot.entry->returns == 2) place_pointer(output + HEAD);
    output += HEAD + result_size();
    for (unsigned i = 0; i < slot.count; i++) {
        const struct argument *a = &slot.args[i];
        if (a->kind != BUFFER || !a->writable) continue;
        memcpy(output, a->base, a->size);
        output += a->size;
    }
    for (uint32_t i = 0; i < watched_count; output += watched[i++].size)
        memcpy(output, (const void *)(uintptr_t)watched[i].offset, watched[i].size);
}

int watch(const unsigned char *request)
{
    unsigned char *at = watch_memory;
    memcpy(&watched_count, request + 1, 4);
    size_t listed = watched_count * sizeof *watched, all = listed;
    watched = memcpy(at, request + 5, listed);
    for (uint32_t i = 0; i < watched_count; i++) all += watched[i].size;
    if (at + all > free_end) return 0;
    first_values = request[0] ? at + listed : NULL;
    at += listed;
    for (uint32_t i = 0; first_values && i < watched_count; at += watched[i++].size)
        memcpy(at, (const void *)(uintptr_t)watched[i].offset, watched[i].size);
    return 1;
}
