/* What is said of an ending: the head of crash.c. Followed there by the calls' return addresses. */
#ifndef HOT_ANVIL_REPORT_H
#define HOT_ANVIL_REPORT_H

#include <stdint.h>

struct report {
    uint32_t state;
    int32_t signal, code, access;
    uint64_t address, instruction, stack, base;
    int32_t argument;
    uint32_t calls;
    int64_t offset;
    uint64_t frames[];
};

#endif
