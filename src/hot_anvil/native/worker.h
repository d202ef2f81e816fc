/* What the parts of the worker and the generated calling loops know of each other. */
#ifndef HOT_ANVIL_WORKER_H
#define HOT_ANVIL_WORKER_H

#include <signal.h>
#include <stddef.h>
#include <stdint.h>

enum { MAX_ARGS = 64, MAX_RESULT = 4096, PLACE = 16 /* bytes that say where a pointer points */ };

struct entry {
    const void *target;
    void (*call)(const void *volatile *fn, void **args, unsigned long calls, void *result);
    int returns;              /* 0 nothing, 1 a value, 2 a pointer */
    unsigned result_size;     /* bytes of a value */
    /* Of a driver, else NULL: makes the objects from the arguments and leaves them where the
     * last argument points; says what came of them; puts them away. */
    void (*prepare)(void **args);
    void (*finish)(void **args, void *result);
    void (*release)(void **args);
    /* Calls once with each of many lists of arguments, `stride` pointers apart. */
    void (*each)(const void *volatile *fn, void **args, unsigned long calls, unsigned long stride,
                 void *result);
};

/* Of a build that watches for values never set, which did not see the worker set its own. */
void __msan_scoped_disable_interceptor_checks(void) __attribute__((weak));

/* Weak: a worker that loads builds as libraries has no entries of its own. */
extern const struct entry hot_anvil_entries[] __attribute__((weak));
extern const unsigned hot_anvil_entry_count __attribute__((weak));

struct library {
    const struct entry *entries;
    unsigned count;
};

struct argument {
    int kind;                 /* SCALAR, BUFFER or ALIAS */
    int writable;
    size_t size, align;
    unsigned char *base;      /* what the entry gets, for a buffer */
    unsigned char *map;       /* the buffer with its closed pages */
    size_t map_size;
    unsigned char *pristine;  /* its first contents, if it may be called again */
    void *pointer;            /* the value of a buffer or an alias */
    void *value;              /* where the value passed stands */
};

enum { SCALAR, BUFFER, ALIAS };
enum { LINE, END, START };    /* where a buffer lies: on a cache line, or tight against a closed page */

struct slot {
    const struct entry *entry;
    const void *volatile target;
    unsigned count;
    struct argument args[MAX_ARGS];
    void *passed[MAX_ARGS + 1];
    void *prepared;           /* a driver's objects */
    int pattern;              /* what the bytes around buffers hold */
    struct slot *threads;        /* what other threads call at the same time */
    unsigned others;
    struct slot *owner;       /* whose values it shares, or NULL */
    struct copies *copies;    /* of its values, made when they are needed */
};

/* What addresses in the program's file count from: 0 where it lies at the addresses it names. */
static inline uintptr_t program_base(void)
{
    extern const unsigned char head[] __asm__("__ehdr_start")
        __attribute__((visibility("hidden")));
    enum { TYPE = 16, FIXED = 2 };
    return head[TYPE] == FIXED ? 0 : (uintptr_t)head;
}

/* From the lowest part up; a part calls only those above it in this list. */

/* io.c */
extern int request_fd, answer_fd;
void die(int code);
void keep_talk(void);
void read_all(void *to, size_t size);
void write_all(const void *from, size_t size);
void answer(uint8_t status, uint32_t size);
void answer_with(const void *from, size_t size);

/* crash.c */
void crash_reports(int descriptor, int exits);
extern struct slot *called_slot;

/* surroundings.c */
void surroundings_note(void);
uint32_t surroundings_changed(void);

/* slots.c */
void slot_make(struct slot *slot, const struct entry *entry, const unsigned char *set, int again);
void slot_join(struct slot *slot, const struct entry *entry, struct slot *owner);
void slot_copy(struct slot *slot, const struct slot *from);
void slot_free(struct slot *slot);
void slot_restore(struct slot *slot);
size_t slot_output_size(const struct slot *slot);
void slot_call(struct slot *slot, unsigned char *output);
void watch_variables(const unsigned char *request);

/* reach.c */
void tell_reached(void);

/* copies.c */
unsigned copies_count(struct slot *slot);
void copies_restore(struct slot *slot, unsigned count);
void copies_call(struct slot *slot, unsigned count, void *result);

/* cold.c */
void displace(void);

/* threads.c */
uint64_t threads_batch(struct slot *slot, uint64_t calls, void *result);
void threads_make(struct slot *slot, const unsigned char *request);

/* timing.c */
void time_probe(void);
void time_first(struct slot *slot);
void calibrate(struct slot *slot, const unsigned char *request);
void time_batches(const unsigned char *request, struct slot *(*slot_of)(const unsigned char *));

/* sampler.c */
extern volatile sig_atomic_t sampler_on;
int sampler_start(uint64_t mean, uint64_t *count, uint64_t *places, uint64_t most);
void sampler_stop(void);

/* sampling.c */
void sample_calls(struct slot *slot, const unsigned char *request);

/* state.c */
void find_state(struct slot *slot);

/* libraries.c, in workers that load builds: returns why it cannot be loaded, or NULL. */
const char *library_open(const char *path, struct library *library) __attribute__((weak));

/* launch.c, in the same workers. */
void launch_program(unsigned char *request) __attribute__((weak));

/* worker.c calls all of these and is called by none. */

#endif
