/* Executes one instruction of our simulator for each state given, for comparing with another's.
 * In: 8 bytes of code, then as u64: r11 to r15, the status register, 24 bytes of memory at 0x300.
 * Out: the same after it, without the code. */
#include "msp430.c"

void chip_access(int how, uint32_t address) { (void)how; (void)address; }
void chip_end(int number, int how, uint32_t address) { (void)how; (void)address; exit(number); }
void chip_fail(const char *why) { (void)why; exit(1); }

int main(void)
{
    struct { unsigned char code[8]; uint64_t registers[6]; unsigned char memory[24]; } state;
    while (fread(&state, sizeof state, 1, stdin) == 1) {
        memcpy(memory + CODE, state.code, sizeof state.code);
        memcpy(memory + 0x300, state.memory, sizeof state.memory);
        chip_go(CODE);
        r[SP] = 0x3f0;
        for (int i = 0; i < 5; i++) r[11 + i] = (uint16_t)state.registers[i];
        r[SR] = (uint16_t)state.registers[5];
        chip_step(0);
        for (int i = 0; i < 5; i++) state.registers[i] = r[11 + i];
        state.registers[5] = r[SR];
        memcpy(state.memory, memory + 0x300, sizeof state.memory);
        fwrite(state.registers, sizeof state - sizeof state.code, 1, stdout);
    }
    return 0;
}
