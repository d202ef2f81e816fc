/* Runs one instruction of a program at a time in libsimavr, on every state that comes in.
 *
 * Standard input: the program's bytes, as many as the first argument says, then for each form and
 * state 16 bytes for r16 to r31, one for the flags and 24 for memory; the same goes out. */
#include <simavr/sim_avr.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MEMORY = 0x200, BYTES = 24 };

int main(int count, char **words)
{
	int size = atoi(words[1]), forms = atoi(words[2]), states = atoi(words[3]);
	avr_t *avr = avr_make_mcu_by_name("atmega328p");

	(void)count;
	avr_init(avr);
	if (fread(avr->flash, 1, size, stdin) != (size_t)size)
		return 1;
	for (int form = 0; form < forms; form++)
		for (int k = 0; k < states; k++) {
			uint8_t now[17 + BYTES];

			if (fread(now, 1, sizeof now, stdin) != sizeof now)
				return 1;
			memcpy(avr->data + 16, now, 16);
			for (int bit = 0; bit < 8; bit++)
				avr->sreg[bit] = now[16] >> bit & 1;
			memcpy(avr->data + MEMORY, now + 17, BYTES);
			avr->pc = 2 * form;
			avr->state = cpu_Running;
			avr->run_cycle_limit = avr->run_cycle_count = 1;
			avr_run(avr);
			memcpy(now, avr->data + 16, 16);
			now[16] = 0;
			for (int bit = 0; bit < 8; bit++)
				now[16] |= avr->sreg[bit] << bit;
			memcpy(now + 17, avr->data + MEMORY, BYTES);
			fwrite(now, 1, sizeof now, stdout);
		}
	return 0;
}
