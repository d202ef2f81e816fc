/* A worker on an emulated board: talks as ../worker.c does, and calls entries of one build.
 *
 * Answers T, R, G, P, F and Q of it (P has one slot; F says no times), and
 *   C  cost   SET -> u32 bytes of stack that one call wrote to, from the entry's first instruction on
 */
#include "board.h"
#include "worker.h"

#include <string.h>

enum { NO_ROOM = 2, SPARE = 256 /* bytes of stack that what calls takes */ };
static unsigned char result[MAX_RESULT] __attribute__((aligned(16)));
enum { FLOATS = 1, INTERRUPTS = 128 }; /* what a call leaves changed: ../surroundings.c has others */

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
static void call(void)
{
    slot.entry->call(&slot.target, slot.passed, 1, result);
    __asm__ volatile("" : : : "memory");
}

static uint32_t call_and_look(void)
{
    uint32_t floats = float_control(), left = 0;
    if (slot.pattern) paint((uint32_t *)((uint32_t)__builtin_frame_address(0) - SPARE));
    start_patience();
    call();
    end_patience();
    if (interrupts_off()) left |= INTERRUPTS;
    interrupts_on();
    if (float_control() != floats) left |= FLOATS;
    set_float_control(floats);
    return left;
}

static void call_once(unsigned char *output)
{
    uint32_t left = call_and_look();
    put_output(output, result, left);
}

static void repeat(const unsigned char *p)
{
    uint32_t calls, kinds = 0, counts[OUTPUTS] = { 0 };
    memcpy(&calls, p, 4);
    uint32_t size = lay_out(p + 4) ? output_size() : UINT32_MAX;
    if (size > OUTPUT) {
        answer(NO_ROOM, 0);
        return;
    }
    for (uint32_t i = 0; i < calls; i++) {
        uint32_t kind = 0, last = kinds < OUTPUTS ? kinds : OUTPUTS - 1;
        lay_out(p + 4);
        put_back();
        call_once(output_memory + last * OUTPUT);
        while (kind < kinds && memcmp(output_memory + kind * OUTPUT, output_memory + last * OUTPUT, size))
            kind++;
        if (kind == kinds && kinds < OUTPUTS) kinds++;
        counts[kind < OUTPUTS ? kind : last]++;
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
#define PAINT 0x5ca1ab1e
#define TEXT_OF(number) #number
#define TEXT(number) TEXT_OF(number)

__attribute__((naked)) static void note_stack(void)
{
    __asm__("ldr r12, =kept\n\t"
            "stm r12, {r0-r3}\n\t"
            "ldr r0, =entered_at\n\t"
            "mov r1, sp\n\t"
            "str r1, [r0]\n\t"
            "ldr r2, =stack_low + 256\n\t"
            "ldr r3, =" TEXT(PAINT) "\n"
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
    if (!lay_out(set)) {
        answer(NO_ROOM, 0);
        return;
    }
    put_back();
    entered = slot.target;
    slot.target = (const void *)note_stack;
    call();
    const uint32_t *lowest = (const uint32_t *)(stack_low + GUARD);
    while ((uint32_t)lowest < entered_at && *lowest == PAINT) lowest++;
    uint32_t bytes = entered_at - (uint32_t)lowest;
    answer_with(&bytes, sizeof bytes);
}

/* Requests. */

static void try_once(const unsigned char *set)
{
    if (!lay_out(set) || output_size() > OUTPUTS * OUTPUT) {
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
    static const uint64_t no_times[2];
    put_back();
    call();
    answer_with(no_times, sizeof no_times);
}

static void serve(int op, const unsigned char *payload)
{
    enum { NUMBERS = 4 /* bytes that a prepared SET comes after: slot and library */ };
    switch (op) {
    case 'T': try_once(payload); break;
    case 'R': repeat(payload); break;
    case 'G': answer(watch(payload) ? 0 : NO_ROOM, 0); break;
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
