/* The record of a call that is stepped through, as core/trace/tape.py reads it.
 *
 * One record for each executed instruction of the code under study: u64 where it lies, u8 how many
 * registers it changed, u8 flags, u32 how many accesses to memory; of each access: u8 kind, u8 bytes,
 * u64 address, for OVERWRITTEN the bytes before, then the bytes as they are after the instruction;
 * of each register: u8 its number, its new value. Code between two instructions of the code under
 * study counts as part of the first, in what it changed; BEYOND says that there was some. The first
 * record is the state at the start: all registers, no instruction, and where the program was loaded. All numbers are little endian.
 */
#ifndef HOT_ANVIL_TAPE_H
#define HOT_ANVIL_TAPE_H

#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { TAPE_LOADED, TAPE_STORED, TAPE_OVERWRITTEN };
enum { TAPE_BEYOND = 1, TAPE_FULL = 2 /* the last: more steps than were asked for */ };
enum { TAPE_ROOM = 1 << 16 };

static unsigned char *tape_bytes;
static size_t tape_used, tape_room, tape_head;

static void tape_put(const void *from, size_t size)
{
    if (tape_used + size > tape_room) {
        tape_room = 2 * (tape_used + size) + 4 * TAPE_ROOM;
        tape_bytes = realloc(tape_bytes, tape_room);
        if (!tape_bytes) _exit(122);
    }
    memcpy(tape_bytes + tape_used, from, size);
    tape_used += size;
}

static void tape_flush(int descriptor)
{
    for (size_t at = 0; at < tape_used;) {
        ssize_t done = write(descriptor, tape_bytes + at, tape_used - at);
        if (done <= 0) _exit(124);
        at += (size_t)done;
    }
    tape_used = 0;
}

static void tape_begin(uint64_t at)
{
    static const unsigned char counts[6];
    tape_head = tape_used;
    tape_put(&at, 8);
    tape_put(counts, 6);
}

static void tape_register(uint8_t number, const void *value, size_t size)
{
    tape_bytes[tape_head + 8]++;
    tape_put(&number, 1);
    tape_put(value, size);
}

/* `before` is NULL for one that was loaded, or whose bytes before are not known. */
static void tape_access(int stored, uint64_t address, const unsigned char *before,
                        const unsigned char *after, size_t size)
{
    uint32_t count;
    while (size) {
        uint8_t part = size > 255 ? 255 : (uint8_t)size;
        uint8_t kind = stored ? before ? TAPE_OVERWRITTEN : TAPE_STORED : TAPE_LOADED;
        memcpy(&count, tape_bytes + tape_head + 10, 4);
        count++;
        memcpy(tape_bytes + tape_head + 10, &count, 4);
        tape_put(&kind, 1);
        tape_put(&part, 1);
        tape_put(&address, 8);
        if (kind == TAPE_OVERWRITTEN) tape_put(before, part);
        tape_put(after, part);
        address += part;
        if (before) before += part;
        after += part;
        size -= part;
    }
}

static void tape_end(int flags, int descriptor)
{
    tape_bytes[tape_head + 9] |= (unsigned char)flags;
    if (tape_used > TAPE_ROOM) tape_flush(descriptor);
}

#endif
