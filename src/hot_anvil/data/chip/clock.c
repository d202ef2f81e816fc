/* The gauge's chip clocks a level out, bit by bit: PB1 holds the bit while PB0 goes up and down.
 * A whole program, in no snippet of the bench: look at its pins with
 *     hot-anvil pins clock.c --build "avr-gcc -Os -mmcu=atmega328p -DF_CPU=8000000UL"  */

#include <avr/io.h>
#include <stdint.h>

static void clock_out(uint16_t level)
{
    for (uint8_t bit = 0; bit < 16; bit++) {
        if (level & 0x8000)
            PORTB |= 1 << PB1;
        else
            PORTB &= ~(1 << PB1);
        PORTB |= 1 << PB0;
        level <<= 1;
        PORTB &= ~(1 << PB0);
    }
}

int main(void)
{
    DDRB = 1 << PB0 | 1 << PB1;
    for (uint16_t level = 1480;; level++)
        clock_out(level);
}
