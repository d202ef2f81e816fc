/* Builds loaded as libraries: many in one process, each with its own copy of its variables. */
#define _GNU_SOURCE
#include "worker.h"

#include <dlfcn.h>

const char *library_open(const char *path, struct library *library)
{
    void *opened = dlopen(path, RTLD_NOW | RTLD_LOCAL);
    const unsigned *count = opened ? dlsym(opened, "hot_anvil_entry_count") : NULL;
    const struct entry *entries = opened ? dlsym(opened, "hot_anvil_entries") : NULL;
    if (!count || !entries) {
        const char *why = dlerror();
        return why ? why : "it has no entries";
    }
    *library = (struct library){ entries, *count };
    return NULL;
}
