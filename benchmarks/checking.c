/* What a person would write to compare builds: read the inputs, call every entry once on each,
 * compare what comes out with the first build's. No process of its own for each candidate, no
 * closed pages, no limits, no second run.
 *
 * Arguments: inputs, expected (written by the first build, read by the others).
 * Inputs: u32 sets, then for each: u32 bytes, then a set as src/hot_anvil/native/worker.c has it.
 */
#include "worker.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct slot *watched_slot;

static unsigned char *whole(const char *name, size_t *size)
{
    FILE *file = fopen(name, "rb");
    if (!file) return NULL;
    fseek(file, 0, SEEK_END);
    *size = (size_t)ftell(file);
    rewind(file);
    unsigned char *data = malloc(*size + 1);
    if (fread(data, 1, *size, file) != *size) exit(2);
    fclose(file);
    return data;
}

static void take(void *to, unsigned char **from, size_t size)
{
    memcpy(to, *from, size);
    *from += size;
}

/* Call one entry on one set; append what came out. */
static size_t call(unsigned char *p, unsigned char *out)
{
    uint16_t entry = 0, count = 0, align = 0;
    unsigned char kinds[MAX_ARGS][3], *buffers[MAX_ARGS], result[MAX_RESULT] = { 0 };
    void *pointers[MAX_ARGS], *passed[MAX_ARGS + 1];
    uint64_t sizes[MAX_ARGS];
    take(&entry, &p, 2);
    take(&count, &p, 2);
    p += 2;
    for (unsigned i = 0; i < count; i++) {
        take(kinds[i], &p, 3);
        take(&align, &p, 2);
        take(&sizes[i], &p, 8);
        buffers[i] = malloc(sizes[i] + 64);
        take(buffers[i], &p, sizes[i]);
        pointers[i] = buffers[i];
        passed[i] = kinds[i][0] == BUFFER ? (void *)&pointers[i] : buffers[i];
    }
    const struct entry *own = &hot_anvil_entries[entry];
    const void *volatile target = own->target;
    own->call(&target, passed, 1, result);
    size_t size = own->returns ? own->result_size : 0;
    memcpy(out, result, size);
    for (unsigned i = 0; i < count; i++) {
        if (kinds[i][0] == BUFFER && kinds[i][1]) {
            memcpy(out + size, buffers[i], sizes[i]);
            size += sizes[i];
        }
        free(buffers[i]);
    }
    return size;
}

int main(int argc, char **argv)
{
    size_t size = 0, known = 0, made = 0;
    if (argc < 3) return 2;
    unsigned char *p = whole(argv[1], &size), *expected = whole(argv[2], &known);
    unsigned char *out = malloc(4 * size + (1 << 16));
    uint32_t sets = 0, bytes = 0;
    take(&sets, &p, 4);
    for (uint32_t i = 0; i < sets; i++) {
        take(&bytes, &p, 4);
        made += call(p, out + made);
        p += bytes;
    }
    if (!expected) {
        FILE *file = fopen(argv[2], "wb");
        fwrite(out, 1, made, file);
        fclose(file);
        return 0;
    }
    return made == known && !memcmp(out, expected, made) ? 0 : 1;
}
