/* What the generated calling loops and the worker know of each other. */
#ifndef HOT_ANVIL_WORKER_H
#define HOT_ANVIL_WORKER_H

struct entry {
    const void *target;
    void (*call)(const void *volatile *fn, void **args, unsigned long calls, void *result);
    int returns;              /* 0 nothing, 1 a value, 2 a pointer */
};

extern const struct entry hot_anvil_entries[];
extern const unsigned hot_anvil_entry_count;

#endif
