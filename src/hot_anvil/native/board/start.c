/* The start of a program on a board, and where faults and interrupts go. */
#include "board.h"

int main(void);
void hot_anvil_reset(void);

__attribute__((naked, used)) static void trouble(void)
{
    __asm__("mrs r0, psp\n\t"
            "tst lr, #4\n\t"
            "it eq\n\t"
            "mrseq r0, msp\n\t"
            "mrs r1, ipsr\n\t"
            "bl hot_anvil_exception");
}

/* What a snippet may handle itself; names as in "CMSIS-Core". */
void SVC_Handler(void) __attribute__((weak, alias("trouble")));
void PendSV_Handler(void) __attribute__((weak, alias("trouble")));
void DebugMon_Handler(void) __attribute__((weak, alias("trouble")));

__attribute__((used, section(".vectors"))) static void *const vectors[] = {
    handlers_top, hot_anvil_reset, trouble, trouble, trouble, trouble, trouble, 0, 0, 0, 0,
    SVC_Handler, DebugMon_Handler, 0, PendSV_Handler, still_there,
    [16 ... 239] = trouble,
};

__attribute__((used)) static void set_up(void)
{
    open_talk();
    set_up_faults();
    main();
}

__attribute__((naked)) void hot_anvil_reset(void)
{
    __asm__("ldr r0, =stack_top\n\t"
            "msr psp, r0\n\t"
            "movs r0, #2\n\t"
            "msr control, r0\n\t"
            "isb\n\t"
            "bl set_up");
}
