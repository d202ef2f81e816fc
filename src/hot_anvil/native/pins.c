/* Runs a whole program on a simulated AVR chip and notes when its pins change.
 *
 * Arguments: the chip, the program, the cycles to run, the most changes, the file to write to.
 * The file: a line "CYCLE PIN LEVEL" for each change, such as "1620 PB5 1", at the end of the
 * instruction that made it; last "end CYCLE WORD": "ran", "stopped" (asleep, interrupts off),
 * "crashed", "full", "restarted" (at its first instruction) or "unhandled-N" (the same, by way of
 * interrupt vector N, which has no handler).
 */
#include "sim_avr.h"
#include "avr_ioport.h"
#include "avr_uart.h"
#include "sim_elf.h"

#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>

enum { MOST_AT_ONCE = 256, MOST_VECTORS = 128 };

static struct { char port; int bit, level; } waiting[MOST_AT_ONCE];
static int count;
static signed char levels['Z'][8];

static void quiet(avr_t *avr, const int level, const char *text, va_list rest)
{
    (void)avr; (void)level; (void)text; (void)rest;
}

static void changed(struct avr_irq_t *irq, uint32_t value, void *place)
{
    (void)irq;
    int port = (int)(intptr_t)place / 8, bit = (int)(intptr_t)place % 8, level = value & 1;
    if (levels[port][bit] == level || count == MOST_AT_ONCE) return;
    levels[port][bit] = (signed char)level;
    waiting[count].port = (char)port;
    waiting[count].bit = bit;
    waiting[count++].level = level;
}

/* How the program came to its first instruction again. A vector without a handler jumps to a jump
 * there: so its place is what ran before the last instruction. */
static const char *restarted(const avr_t *chip, uint32_t before)
{
    static char word[32];
    uint32_t vector = before / chip->vector_size;
    if (before % chip->vector_size || !vector || vector >= MOST_VECTORS) return "restarted";
    snprintf(word, sizeof word, "unhandled-%u", (unsigned)vector);
    return word;
}

int main(int argc, char **argv)
{
    elf_firmware_t firmware = { 0 };
    avr_t *chip;
    if (argc != 6) return 124;
    avr_global_logger_set(quiet);
    uint64_t most_cycles = strtoull(argv[3], NULL, 10), most = strtoull(argv[4], NULL, 10);
    FILE *file = fopen(argv[5], "w");
    if (!file || elf_read_firmware(argv[2], &firmware) || !(chip = avr_make_mcu_by_name(argv[1]))) {
        fprintf(stderr, "the simulator does not know this chip\n");
        return 1;
    }
    avr_init(chip);
    if (!firmware.frequency) firmware.frequency = 16000000;
    avr_load_firmware(chip, &firmware);
    for (char uart = '0'; uart < '4'; uart++) { /* what it sends is not for our output */
        uint32_t flags = 0;
        if (avr_ioctl(chip, AVR_IOCTL_UART_GET_FLAGS(uart), &flags) == -1) continue;
        flags &= (uint32_t)~AVR_UART_FLAG_STDIO;
        avr_ioctl(chip, AVR_IOCTL_UART_SET_FLAGS(uart), &flags);
    }
    for (int port = 'A'; port < 'Z'; port++)
        for (int bit = 0; bit < 8; bit++) {
            avr_irq_t *irq = avr_io_getirq(chip, AVR_IOCTL_IOPORT_GETIRQ(port), bit);
            if (irq) avr_irq_register_notify(irq, changed, (void *)(intptr_t)(port * 8 + bit));
        }
    chip->run_cycle_limit = chip->run_cycle_count = 1; /* one instruction at a time */
    const char *word = "ran";
    uint64_t told = 0;
    uint32_t before = 0;
    while (chip->cycle < most_cycles) {
        uint32_t at = chip->pc;
        int state = avr_run(chip);
        if (chip->pc == 0 && chip->cycle) {
            word = restarted(chip, before);
            break;
        }
        before = at;
        for (int i = 0; i < count; i++)
            fprintf(file, "%llu P%c%d %d\n", (unsigned long long)chip->cycle, waiting[i].port,
                    waiting[i].bit, waiting[i].level);
        told += (uint64_t)count;
        count = 0;
        if (state == cpu_Done || state == cpu_Crashed) {
            word = state == cpu_Done ? "stopped" : "crashed";
            break;
        }
        if (told > most) {
            word = "full";
            break;
        }
    }
    fprintf(file, "end %llu %s\n", (unsigned long long)chip->cycle, word);
    return fclose(file) ? 124 : 0;
}
