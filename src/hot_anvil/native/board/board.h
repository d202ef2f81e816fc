/* What the parts of a board's worker know of each other. */
#ifndef HOT_ANVIL_BOARD_H
#define HOT_ANVIL_BOARD_H

#include <stdint.h>

/* ports.c, which has what ../io.c has as well */
enum { REGIONS = 8, FIRST_FREE = 3 }; /* of memory that may be closed */
enum { GUARD_BITS = 8, GUARD = 1 << GUARD_BITS };
void close_memory(int region, uint32_t start);   /* GUARD bytes; 0: that region closes nothing */
void start_patience(void);
void end_patience(void);
uint32_t interrupts_off(void);                   /* what a caller relies on: interrupts are on */
void interrupts_on(void);
uint32_t float_control(void);
void set_float_control(uint32_t wanted);
extern unsigned char stack_low[], stack_top[], free_memory[], free_end[]; /* link.ld */

/* worker.c */
int buffer_at(uint32_t address, int64_t *offset); /* the argument around an address, -1 for none */

#endif
