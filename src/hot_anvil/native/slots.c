/* Input sets in memory: buffers between closed pages, calls, and what they leave behind.
 *
 * An output is: i32 argument whose surroundings were written to (-1 for none), i64 offset of the
 * first such byte from the buffer's start, u32 what else the call left changed (surroundings.c), the
 * result (a pointer as PLACE bytes: i64 argument it
 * points into, -1 for NULL, -2 for elsewhere, and i64 offset), then every writable buffer,
 * then every variable of the program that is watched.
 */
#define _GNU_SOURCE
#include "worker.h"

#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>

/* Of a build that watches for values never set: it did not see us set what we pass and tell. */
void __msan_unpoison_param(size_t count) __attribute__((weak));
void __msan_scoped_enable_interceptor_checks(void) __attribute__((weak));
enum { PASSED = 100 };


enum { PAGE = 4096, SHALLOW = 1 << 20, DEEP = 6 << 20, HEAD = 16 /* of an output */ };

static size_t pages(size_t size) { return (size + PAGE - 1) / PAGE * PAGE; }

static uint64_t number(const unsigned char **at, int bytes)
{
    uint64_t value = 0;
    memcpy(&value, *at, (size_t)bytes);
    *at += bytes;
    return value;
}

/* Exact: aligned to `align`, and to no more. */
static size_t place(size_t room, size_t size, size_t align, int exact, int where)
{
    size_t offset = where == END ? (room - size) / align * align : 0;
    if (exact && offset / align % 2 == 0)
        offset = where == END && offset >= align ? offset - align : offset + align;
    return offset;
}

static void buffer_make(struct argument *a, size_t align, int exact, int where, int pattern)
{
    size_t room = pages(a->size + 2 * align + 64);
    a->map_size = room + 2 * PAGE;
    a->map = mmap(NULL, a->map_size, PROT_NONE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    if (a->map == MAP_FAILED || mprotect(a->map + PAGE, room, PROT_READ | PROT_WRITE)) die(122);
    size_t offset = place(room, a->size, align, exact, where);
    if (pattern) {
        memset(a->map + PAGE, pattern, offset);
        memset(a->map + PAGE + offset + a->size, pattern, room - offset - a->size);
    }
    a->base = a->map + PAGE + offset;
    a->pointer = a->base;
}

/* Layout of a request: head of worker.c. `again`: the slot will be called more than once. */
void slot_make(struct slot *slot, const struct entry *entry, const unsigned char *p, int again)
{
    p += 2; /* the entry's number */
    unsigned count = (unsigned)number(&p, 2);
    int where = (int)number(&p, 1), pattern = (int)number(&p, 1);
    if (count > MAX_ARGS) die(123);
    memset(slot, 0, sizeof *slot);
    slot->entry = entry;
    slot->target = slot->entry->target;
    slot->count = count;
    slot->pattern = pattern;
    for (unsigned i = 0; i < count; i++) {
        struct argument *a = &slot->args[i];
        a->kind = (int)number(&p, 1);
        a->writable = (int)number(&p, 1);
        int exact = (int)number(&p, 1);
        size_t align = number(&p, 2);
        a->align = align;
        a->size = number(&p, 8);
        a->value = &a->pointer;
        if (a->kind == BUFFER) {
            buffer_make(a, align, exact, where, pattern);
            memcpy(a->base, p, a->size);
            if (a->writable && again) {
                a->pristine = malloc(a->size ? a->size : 1);
                if (!a->pristine) die(122);
                memcpy(a->pristine, p, a->size);
            }
        } else {
            if (!(a->value = aligned_alloc(64, (a->size + 64) / 64 * 64))) die(122);
            memcpy(a->value, p, a->size);
        }
        p += a->size;
    }
    for (unsigned i = 0; i < count; i++) {
        struct argument *a = &slot->args[i];
        if (a->kind == ALIAS) { /* its bytes say whose buffer, and how far into it */
            int64_t said[2];
            memcpy(said, a->value, sizeof said);
            free(a->value);
            a->pointer = slot->args[said[0]].base + said[1];
            a->value = &a->pointer;
        }
        slot->passed[i] = a->value;
        /* What the entry promises not to write is closed to writing. */
        if (a->kind == BUFFER && !a->writable && pattern)
            mprotect(a->map + PAGE, a->map_size - 2 * PAGE, PROT_READ);
    }
    slot->passed[count] = &slot->prepared;
    called_slot = slot;
    if (slot->entry->prepare) slot->entry->prepare(slot->passed);
}

/* Builds that are compared find their values in the very same memory. */
void slot_join(struct slot *slot, const struct entry *entry, struct slot *owner)
{
    *slot = *owner;
    slot->owner = owner->owner ? owner->owner : owner;
    slot->copies = NULL;
    slot->entry = entry;
    slot->target = entry->target;
    slot->prepared = NULL;
    for (unsigned i = 0; i < slot->count; i++) /* pointers are passed from their own argument */
        if (slot->args[i].kind != SCALAR) slot->passed[i] = slot->args[i].value = &slot->args[i].pointer;
    slot->passed[slot->count] = &slot->prepared;
    if (entry->prepare) entry->prepare(slot->passed);
}

/* The same values in memory of its own, as they are now. */
void slot_copy(struct slot *slot, const struct slot *from)
{
    *slot = *from;
    slot->threads = NULL;
    slot->others = 0;
    slot->owner = NULL;
    slot->copies = NULL;
    for (unsigned i = 0; i < slot->count; i++) {
        struct argument *a = &slot->args[i];
        if (a->kind != BUFFER) continue;
        size_t offset = (size_t)(a->base - a->map);
        unsigned char *map = mmap(NULL, a->map_size, PROT_READ | PROT_WRITE,
                                  MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
        if (map == MAP_FAILED) die(122);
        memcpy(map + offset, a->base, a->size);
        a->map = map;
        a->pointer = a->base = map + offset;
    }
    for (unsigned i = 0; i < slot->count; i++) {
        struct argument *a = &slot->args[i];
        if (a->kind == SCALAR) continue;
        for (unsigned k = 0; a->kind == ALIAS && k < slot->count; k++) {
            const struct argument *other = &from->args[k];
            unsigned char *at = a->pointer;
            if (other->kind == BUFFER && at >= other->base && at <= other->base + other->size) {
                a->pointer = slot->args[k].base + (at - other->base);
                break;
            }
        }
        slot->passed[i] = a->value = &a->pointer;
    }
    slot->passed[slot->count] = &slot->prepared;
    if (slot->entry->prepare) slot->entry->prepare(slot->passed);
}

void slot_free(struct slot *slot)
{
    if (!slot->entry) return;
    if (slot->entry->release) slot->entry->release(slot->passed);
    for (unsigned i = 0; i < slot->count; i++) {
        struct argument *a = &slot->args[i];
        if (a->kind == BUFFER) munmap(a->map, a->map_size);
        else if (a->kind == SCALAR) free(a->value);
        free(a->pristine);
    }
    slot->entry = NULL;
}

void slot_restore(struct slot *slot)
{
    for (unsigned i = 0; i < slot->count; i++)
        if (slot->args[i].pristine)
            memcpy(slot->args[i].base, slot->args[i].pristine, slot->args[i].size);
    if (slot->entry->prepare) {
        if (slot->entry->release) slot->entry->release(slot->passed);
        slot->entry->prepare(slot->passed);
    }
    for (unsigned i = 0; i < slot->others; i++) slot_restore(&slot->threads[i]);
}

/* A pointer differs between processes; where in which buffer it points does not. */
static void place_pointer(const struct slot *slot, unsigned char *result)
{
    unsigned char *p;
    memcpy(&p, result, sizeof p);
    int64_t said[2] = { p ? -2 : -1, 0 };
    for (unsigned i = 0; i < slot->count; i++) {
        const struct argument *a = &slot->args[i];
        if (a->kind == BUFFER && p >= a->base && p <= a->base + a->size) {
            said[0] = (int64_t)i;
            said[1] = p - a->base;
            break;
        }
    }
    memcpy(result, said, sizeof said);
}

/* Return the first of `size` bytes that is not the pattern, `size` when all are. */
static size_t intact(const unsigned char *p, size_t size, int pattern)
{
    if (!size || (*p == pattern && !memcmp(p, p + 1, size - 1))) return size;
    size_t at = 0;
    while (p[at] == pattern) at++;
    return at;
}

/* Find a byte beside a buffer that no longer holds the pattern. */
static int damaged(const struct slot *slot, int64_t *offset)
{
    for (unsigned i = 0; slot->pattern && i < slot->count; i++) {
        const struct argument *a = &slot->args[i];
        if (a->kind != BUFFER || !a->writable) continue;
        unsigned char *start = a->map + PAGE, *end = a->base + a->size;
        size_t before = (size_t)(a->base - start);
        size_t after = (size_t)(a->map + a->map_size - PAGE - end);
        size_t at = intact(end, after, slot->pattern);
        if (at < after) { *offset = (int64_t)(a->size + at); return (int)i; }
        at = intact(start, before, slot->pattern);
        if (at < before) { *offset = (int64_t)at - (int64_t)before; return (int)i; }
    }
    return -1;
}

static size_t painted = SHALLOW; /* bytes of the stack below a call */

/* Leave other bytes each time, or zeros, where the entry's variables will lie: what it reads
 * without having written it then differs between two runs. Returns the lowest of them. */
__attribute__((noinline)) static volatile uint64_t *paint(int pattern)
{
    static uint64_t at = 88172645463325252u;
    size_t count = painted / sizeof at;
    uint64_t below[count];
    if (pattern & 1) {
        at += (uint64_t)pattern << 32;
        for (size_t i = count; i--;) { /* a Weyl sequence, its bits mixed: no more is needed */
            at += 0x9e3779b97f4a7c15u;
            below[i] = at ^ (at >> 29);
        }
    } else {
        memset(below, 0, sizeof below);
    }
    volatile uint64_t *lowest = below;
    __asm__ volatile("" : "+r"(lowest) : : "memory"); /* it is looked at after the call */
    return lowest;
}

static uint64_t sum_of(volatile const uint64_t *lowest)
{
    uint64_t sum = 0;
    for (size_t i = 0; i < PAGE / sizeof *lowest; i++) sum = sum * 31 + lowest[i];
    return sum;
}

static struct { uint64_t offset, size; } *watched;
static uint32_t watched_count;
static unsigned char *first_values; /* of those watched, NULL where they are not put back */

static void *watched_at(uint32_t i)
{
    return (void *)(program_base() + (uintptr_t)watched[i].offset);
}

/* Request: u8 whether each call is to find their first values, u32 variables, of each: u64 bytes
 * from where the program is loaded, u64 size. */
void watch_variables(const unsigned char *request)
{
    size_t all = 1;
    memcpy(&watched_count, request + 1, 4);
    watched = calloc(watched_count + 1u, sizeof *watched);
    if (!watched) die(122);
    memcpy(watched, request + 5, watched_count * sizeof *watched);
    for (uint32_t i = 0; i < watched_count; i++) all += watched[i].size;
    if (request[0] && !(first_values = malloc(all))) die(122);
    unsigned char *at = first_values;
    for (uint32_t i = 0; at && i < watched_count; at += watched[i++].size)
        memcpy(at, watched_at(i), watched[i].size);
    answer(0, 0);
}

static void put_variables_back(void)
{
    const unsigned char *at = first_values;
    for (uint32_t i = 0; at && i < watched_count; at += watched[i++].size)
        memcpy(watched_at(i), at, watched[i].size);
}

static size_t result_size(const struct slot *slot)
{
    return slot->entry->returns == 2 ? PLACE : slot->entry->returns ? slot->entry->result_size : 0;
}

size_t slot_output_size(const struct slot *slot)
{
    size_t size = HEAD + result_size(slot);
    for (unsigned i = 0; i < slot->count; i++)
        if (slot->args[i].kind == BUFFER && slot->args[i].writable) size += slot->args[i].size;
    for (uint32_t i = 0; i < watched_count; i++) size += watched[i].size;
    return size;
}

void slot_call(struct slot *slot, unsigned char *output)
{
    unsigned char result[MAX_RESULT] = { 0 };
    int64_t offset = 0;
    called_slot = slot;
    put_variables_back();
    surroundings_note(); /* before painting: it uses the stack as well */
    volatile uint64_t *lowest = slot->pattern ? paint(slot->pattern) : NULL;
    uint64_t was = lowest ? sum_of(lowest) : 0;
    if (__msan_unpoison_param) {
        __msan_unpoison_param(PASSED);
        __msan_scoped_enable_interceptor_checks();
    }
    slot->entry->call(&slot->target, slot->passed, 1, result);
    if (__msan_unpoison_param) __msan_scoped_disable_interceptor_checks();
    uint32_t left = surroundings_changed();
    /* What reached the end of what was painted may go as deep again. */
    if (lowest && sum_of(lowest) != was) painted = DEEP;
    if (slot->entry->finish) slot->entry->finish(slot->passed, result);
    if (slot->entry->returns == 2) place_pointer(slot, result);
    int32_t where = damaged(slot, &offset);
    memcpy(output, &where, 4);
    memcpy(output + 4, &offset, 8);
    memcpy(output + 12, &left, 4);
    output += HEAD;
    memcpy(output, result, result_size(slot));
    output += result_size(slot);
    for (unsigned i = 0; i < slot->count; i++) {
        const struct argument *a = &slot->args[i];
        if (a->kind != BUFFER || !a->writable) continue;
        memcpy(output, a->base, a->size);
        output += a->size;
    }
    for (uint32_t i = 0; i < watched_count; i++) {
        memcpy(output, watched_at(i), watched[i].size);
        output += watched[i].size;
    }
}
