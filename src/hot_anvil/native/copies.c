/* Many copies of an input set, for calls that change what they read and are too short to be timed
 * one by one: all are put back at once, then called one after the other between two looks at the
 * clock.
 *
 * The copies together, with the lists that calls are made from, stay within the nearest cache, where
 * a caller's own data would mostly be.
 */
#define _GNU_SOURCE
#include "worker.h"

#include <stdlib.h>
#include <string.h>

enum { ROOM = 24 << 10, FEWEST = 8, MOST = 1024, LINE_BYTES = 64 };

struct copies {
    unsigned count;           /* 0: they would not fit */
    unsigned stride;          /* pointers from one copy's list to the next */
    void **lists;             /* what an entry is called with, for each copy */
    void **pointers;          /* what the lists show for buffers: as many for each copy */
    unsigned char **bases;    /* of each copy, where its buffers lie: MAX_ARGS each */
};

static size_t lines(size_t size) { return (size + LINE_BYTES - 1) / LINE_BYTES * LINE_BYTES; }

static void *room_for(size_t size)
{
    void *made = aligned_alloc(LINE_BYTES, lines(size ? size : 1));
    if (!made) die(122);
    return made;
}

/* Return how many copies fit, 0 where too few do or a buffer asks for more than a line's start. */
static unsigned how_many(const struct slot *slot)
{
    size_t each = 0, called_from = (2 * slot->count + 1) * sizeof(void *);
    for (unsigned i = 0; i < slot->count; i++) {
        const struct argument *a = &slot->args[i];
        if (a->kind != BUFFER) continue;
        if (a->align > LINE_BYTES) return 0;
        if (a->writable) each += lines(a->size);
    }
    size_t fit = ROOM / (each + called_from);
    return fit < FEWEST ? 0 : fit > MOST ? MOST : (unsigned)fit;
}

static void copy_make(struct copies *made, const struct slot *slot, unsigned k)
{
    void **list = made->lists + (size_t)k * made->stride;
    unsigned char **bases = made->bases + (size_t)k * MAX_ARGS;
    void **pointers = made->pointers + (size_t)k * slot->count;
    for (unsigned i = 0; i < slot->count; i++) {
        const struct argument *a = &slot->args[i];
        list[i] = a->value;
        if (a->kind != BUFFER) continue;
        bases[i] = a->writable ? room_for(a->size) : a->base; /* what is only read is shared */
        pointers[i] = bases[i];
        list[i] = &pointers[i];
    }
    for (unsigned i = 0; i < slot->count; i++) {
        const struct argument *a = &slot->args[i];
        if (a->kind != ALIAS) continue;
        for (unsigned b = 0; b < slot->count; b++) {
            const struct argument *other = &slot->args[b];
            unsigned char *at = a->pointer;
            if (other->kind == BUFFER && at >= other->base && at <= other->base + other->size)
                pointers[i] = bases[b] + (at - other->base);
        }
        list[i] = &pointers[i];
    }
}

static struct copies *copies_of(struct slot *slot)
{
    struct slot *owner = slot->owner && !slot->entry->prepare ? slot->owner : slot;
    if (owner->copies) return owner->copies;
    struct copies *made = calloc(1, sizeof *made);
    if (!made) die(122);
    owner->copies = made;
    unsigned count = owner->entry->each ? how_many(owner) : 0;
    if (!count) return made;
    made->stride = owner->count + 1;
    made->lists = calloc((size_t)count * made->stride, sizeof *made->lists);
    made->bases = calloc((size_t)count * MAX_ARGS, sizeof *made->bases);
    made->pointers = calloc((size_t)count * made->stride, sizeof *made->pointers);
    if (!made->lists || !made->bases || !made->pointers) die(122);
    for (unsigned k = 0; k < count; k++) copy_make(made, owner, k);
    made->count = count;
    return made;
}

unsigned copies_count(struct slot *slot) { return slot->others ? 0 : copies_of(slot)->count; }

void copies_restore(struct slot *slot, unsigned count)
{
    struct copies *made = copies_of(slot);
    for (unsigned k = 0; k < count; k++) {
        void **list = made->lists + (size_t)k * made->stride;
        for (unsigned i = 0; i < slot->count; i++) {
            const struct argument *a = &slot->args[i];
            if (a->kind == BUFFER && a->writable)
                memcpy(made->bases[(size_t)k * MAX_ARGS + i], a->pristine, a->size);
        }
        if (!slot->entry->prepare) continue;
        if (list[slot->count] && slot->entry->release) slot->entry->release(list);
        if (!list[slot->count]) list[slot->count] = calloc(1, sizeof(void *));
        if (!list[slot->count]) die(122);
        slot->entry->prepare(list);
    }
}

void copies_call(struct slot *slot, unsigned count, void *result)
{
    struct copies *made = copies_of(slot);
    slot->entry->each(&slot->target, made->lists, count, made->stride, result);
}
