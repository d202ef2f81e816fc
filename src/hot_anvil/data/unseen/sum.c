#include <stdint.h>

/* Undefined on the bench's own values, though some builds give what was meant. */

int32_t sum_wrapping(int32_t level, int32_t step) { return (int32_t)((uint32_t)level + (uint32_t)step); }
int32_t sum_hasty(int32_t level, int32_t step) { return level + step; }
