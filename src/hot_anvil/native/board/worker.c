/* A worker on an emulated board: talks as ../worker.c does, and calls entries of one build.
 *
 * Answers T, R, G, P, F and Q of it (P has one slot; F says no times), and
 *   C  cost   SET -> u32 bytes of stack that one call wrote to, from the entry's first instruction on
 *
 * Values lie in memory of their own, each with closed bytes beside it on the side that it is tight
 * against, as far as the processor has regions for that; what lies around others, and what the
 * entry may not write, is compared after the call.
 */
#include "board.h"
#include "worker.h"

#include <string.h>

enum { NO_ROOM = 2, MOST_KINDS = 16, HEAD = 16 /* of an output */ };
enum { PAYLOAD = 5 << 20, VALUES = 4 << 20, OUTPUT = 320 << 10, SPARE = 256 /* bytes of stack */ };
enum { FLOATS = 1, INTERRUPTS = 128 }; /* what a call leaves changed: surroundings.c has the others */

static struct slot slot;
static uint64_t scalars[MAX_ARGS][4];
static const unsigned char *given[MAX_ARGS]; /* the first contents of buffers */
static struct { uint64_t offset, size; } *watched;
static uint32_t watched_count;
static unsigned char *first_values; /* of those watched, NULL where they are not put back */

/* The memory for values: requests, buffers, outputs, and what is watched. */
#define payload_memory free_memory
#define buffer_memory (payload_memory + PAYLOAD)
#define output_memory (buffer_memory + VALUES)
#define watch_memory (output_memory + MOST_KINDS * OUTPUT)

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
        memcpy(a->base, *p, a->size);
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

/* Lays out a SET: head of ../worker.c. Returns 0 where there is no room. */
static int lay_out(const unsigned char *p)
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

static void put_back(void)
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

/* Calls. */

/* Leave other bytes each time, or zeros, where the entry's variables will lie. */
static void paint(uint32_t *top)
{
    static uint32_t at = 2463534242u;
    at += (uint32_t)slot.pattern << 16;
    for (uint32_t *p = (uint32_t *)(stack_low + GUARD); p < top; p++) {
        at += 0x9e3779b9u;
        *p = slot.pattern & 1 ? at ^ at >> 15 : 0;
    }
}

/* In a section of its own: counting ends where this goes on. */
__attribute__((noinline, section("hot_anvil_caller")))
static void call(void *result)
{
    slot.entry->call(&slot.target, slot.passed, 1, result);
    __asm__ volatile("" : : : "memory");
}

static uint32_t call_and_look(void *result)
{
    uint32_t floats = float_control(), left = 0;
    if (slot.pattern) paint((uint32_t *)((uint32_t)__builtin_frame_address(0) - SPARE));
    start_patience();
    call(result);
    end_patience();
    if (interrupts_off()) left |= INTERRUPTS;
    interrupts_on();
    if (float_control() != floats) left |= FLOATS;
    set_float_control(floats);
    return left;
}

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

static uint32_t output_size(void)
{
    size_t size = HEAD + result_size();
    for (unsigned i = 0; i < slot.count; i++)
        if (slot.args[i].kind == BUFFER && slot.args[i].writable) size += slot.args[i].size;
    for (uint32_t i = 0; i < watched_count; i++) size += watched[i].size;
    return size;
}

/* An OUTPUT: head of ../slots.c. */
static void call_once(unsigned char *output)
{
    static unsigned char result[MAX_RESULT];
    int64_t offset = 0;
    uint32_t left = call_and_look(result);
    int32_t where = slot.pattern ? damaged(&offset) : -1;
    if (slot.entry->returns == 2) place_pointer(result);
    memcpy(output, &where, 4);
    memcpy(output + 4, &offset, 8);
    memcpy(output + 12, &left, 4);
    memcpy(output + HEAD, result, result_size());
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

static void repeat(const unsigned char *p)
{
    uint32_t calls, kinds = 0, counts[MOST_KINDS] = { 0 };
    memcpy(&calls, p, 4);
    uint32_t size = lay_out(p + 4) ? output_size() : UINT32_MAX;
    if (size > OUTPUT) {
        answer(NO_ROOM, 0);
        return;
    }
    for (uint32_t i = 0; i < calls; i++) {
        uint32_t kind = 0, last = kinds < MOST_KINDS ? kinds : MOST_KINDS - 1;
        lay_out(p + 4);
        put_back();
        call_once(output_memory + last * OUTPUT);
        while (kind < kinds && memcmp(output_memory + kind * OUTPUT, output_memory + last * OUTPUT, size))
            kind++;
        if (kind == kinds && kinds < MOST_KINDS) kinds++;
        counts[kind < MOST_KINDS ? kind : last]++;
    }
    answer(0, 4 + kinds * (4 + size));
    write_all(&kinds, 4);
    write_all(counts, 4 * kinds);
    for (uint32_t k = 0; k < kinds; k++) write_all(output_memory + k * OUTPUT, size);
}

/* The deepest stack: from where it is at the entry's first instruction to the lowest word that the
 * call wrote. Below the first, all is painted at that moment: what called it has written there. */

__attribute__((used)) static const void *entered;
__attribute__((used)) static uint32_t entered_at, kept[4];
#define PAINT "0x5ca1ab1e"

__attribute__((naked)) static void note_stack(void)
{
    __asm__("ldr r12, =kept\n\t"
            "stm r12, {r0-r3}\n\t"
            "ldr r0, =entered_at\n\t"
            "mov r1, sp\n\t"
            "str r1, [r0]\n\t"
            "ldr r2, =stack_low + 256\n\t"
            "ldr r3, =" PAINT "\n"
            "1:\tstr r3, [r1, #-4]!\n\t"
            "cmp r1, r2\n\t"
            "bhi 1b\n\t"
            "ldm r12, {r0-r3}\n\t"
            "ldr r12, =entered\n\t"
            "ldr r12, [r12]\n\t"
            "bx r12");
}

static void tell_cost(const unsigned char *set)
{
    static unsigned char result[MAX_RESULT];
    static const uint32_t paint_word = 0x5ca1ab1e;
    if (!lay_out(set)) {
        answer(NO_ROOM, 0);
        return;
    }
    entered = slot.target;
    slot.target = (const void *)note_stack;
    call(result);
    const uint32_t *lowest = (const uint32_t *)(stack_low + GUARD);
    while ((uint32_t)lowest < entered_at && *lowest == paint_word) lowest++;
    uint32_t bytes = entered_at - (uint32_t)lowest;
    answer_with(&bytes, sizeof bytes);
}

/* Requests. */

static void watch(const unsigned char *request)
{
    unsigned char *at = watch_memory;
    memcpy(&watched_count, request + 1, 4);
    size_t listed = watched_count * sizeof *watched, all = listed;
    watched = memcpy(at, request + 5, listed);
    for (uint32_t i = 0; i < watched_count; i++) all += watched[i].size;
    if (at + all > free_end) die(122);
    first_values = request[0] ? at + listed : NULL;
    at += listed;
    for (uint32_t i = 0; first_values && i < watched_count; at += watched[i++].size)
        memcpy(at, (const void *)(uintptr_t)watched[i].offset, watched[i].size);
    answer(0, 0);
}

static void try_once(const unsigned char *set)
{
    if (!lay_out(set) || output_size() > MOST_KINDS * OUTPUT) {
        answer(NO_ROOM, 0);
        return;
    }
    put_back();
    call_once(output_memory);
    answer_with(output_memory, output_size());
}

static void prepare(const unsigned char *set)
{
    int there = lay_out(set);
    answer(there ? 0 : NO_ROOM, 0);
}

static void call_first(void)
{
    static unsigned char result[MAX_RESULT];
    static const uint64_t no_times[2];
    put_back();
    call(result);
    answer_with(no_times, sizeof no_times);
}

static void serve(int op, const unsigned char *payload)
{
    enum { NUMBERS = 4 /* bytes that a prepared SET comes after: slot and library */ };
    switch (op) {
    case 'T': try_once(payload); break;
    case 'R': repeat(payload); break;
    case 'G': watch(payload); break;
    case 'C': tell_cost(payload); break;
    case 'P': prepare(payload + NUMBERS); break;
    case 'F': call_first(); break;
    case 'Q': die(0); break;
    default: die(123);
    }
}

int main(void)
{
    for (;;) {
        unsigned char head[5];
        uint32_t size;
        read_all(head, sizeof head);
        memcpy(&size, head + 1, 4);
        if (size <= PAYLOAD) {
            read_all(payload_memory, size);
            serve(head[0], payload_memory);
            continue;
        }
        for (uint32_t left = size; left; left -= left < PAYLOAD ? left : PAYLOAD)
            read_all(payload_memory, left < PAYLOAD ? left : PAYLOAD);
        answer(NO_ROOM, 0);
    }
}
