/* What chip.c and a chip's simulator know of each other; avr.c and msp430.c are simulators. */
#ifndef HOT_ANVIL_CHIP_H
#define HOT_ANVIL_CHIP_H

#include <stdint.h>

enum { READ = 1, WRITE = 2 };

/* Of the simulator. */
extern unsigned char *chip_memory; /* data, by address */
extern uint32_t chip_first;        /* the lowest address of a variable */
extern uint32_t chip_last;         /* the highest address of what can be written */
extern uint32_t chip_code_end;     /* one after the highest address of code */
void chip_open(const char *name, const char *program);
void chip_step(int watched);       /* one instruction; its accesses told first where watched */
uint32_t chip_at(void);            /* the instruction that runs, or the next */
void chip_go(uint32_t address);    /* as after a reset */
uint64_t chip_cycles(void);
uint32_t chip_stack(void);         /* the stack pointer */
void chip_set_stack(uint32_t to);
uint32_t chip_in_use(void);        /* the lowest address of the stack that holds something */
uint32_t chip_back(void);          /* where the function just entered returns to */
uint32_t chip_back_bytes(void);    /* how long a return address is on the stack */
/* The registers in the order in which they are recorded, of so many bytes each; how many. */
unsigned chip_registers(uint64_t values[40], unsigned char bytes[40]);
uint32_t chip_data(uint32_t symbol);           /* a symbol's value as an address of data */
int chip_common(int how, uint32_t address);    /* may all code touch it, as devices are? */

/* Of chip.c. */
void chip_access(int how, uint32_t address);   /* ends the process where it is not allowed */
void chip_note(int how, uint32_t address);     /* that one is made which is always allowed */
void chip_end(int number, int how, uint32_t address);
void chip_fail(const char *why);

#endif
