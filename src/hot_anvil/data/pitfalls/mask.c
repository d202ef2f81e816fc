#include <stdint.h>

/* A mask of so many low bits, up to all 32. */

uint32_t mask_wide(uint32_t bits)
{
    return (uint32_t)((UINT64_C(1) << bits) - 1);
}

uint32_t mask_narrow(uint32_t bits)
{
    return (UINT32_C(1) << bits) - 1;
}
