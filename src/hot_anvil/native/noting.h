/* What chip.c knows of noting.c, which records what each instruction of a call changes. */
#ifndef HOT_ANVIL_NOTING_H
#define HOT_ANVIL_NOTING_H

const unsigned char *note_from(const unsigned char *request); /* returns what follows its own part */
void note_begin(void); /* before each instruction of the call */
void note_over(void);  /* the call has returned, or ends here */

#endif
