/* What the parts of a board's worker know of each other. */
#ifndef HOT_ANVIL_BOARD_H
#define HOT_ANVIL_BOARD_H

#include <stddef.h>
#include <stdint.h>

extern unsigned char stack_low[], stack_top[], handlers_top[], free_memory[], free_end[]; /* link.ld */

/* From the lowest part up. */

/* ports.c, which has what ../io.c has as well */
void open_talk(void);
void write_report(const void *report, uint32_t size);

/* faults.c */
enum { REGIONS = 8, FIRST_FREE = 3 };            /* of memory that may be closed */
enum { GUARD_BITS = 8, GUARD = 1 << GUARD_BITS };
void set_up_faults(void);
void close_memory(int region, uint32_t start);   /* GUARD bytes; 0: that region closes nothing */
void start_patience(void);
void end_patience(void);
void still_there(void);
void tell(int signal, int code, uint32_t address, uint32_t at, uint32_t stack);
uint32_t interrupts_off(void);                   /* what a caller relies on: interrupts are on */
void interrupts_on(void);
uint32_t float_control(void);
void set_float_control(uint32_t wanted);

/* values.c */
enum { PAYLOAD = 5 << 20, VALUES = 4 << 20, OUTPUT = 320 << 10, OUTPUTS = 16 }; /* bytes; how many */
#define payload_memory free_memory
#define output_memory (free_memory + PAYLOAD + VALUES)
extern struct slot slot;
int lay_out(const unsigned char *set);           /* 0 where there is no room */
void put_back(void);
int buffer_at(uint32_t address, int64_t *offset); /* the argument around an address, -1 for none */
uint32_t output_size(void);
void put_output(unsigned char *output, const unsigned char *result, uint32_t left);
int watch(const unsigned char *request);         /* 0 where there is no room */

/* start.c, library.c and worker.c call these, and are called by none. */

#endif
