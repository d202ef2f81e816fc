#include <stdint.h>

/* Every level is three above the one before, which was changed already: out lies one place on. */

void smear_any(int16_t *out, const int16_t *levels, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        out[i] = (int16_t)(levels[i] + 3);
}

void smear_apart(int16_t *restrict out, const int16_t *restrict levels, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        out[i] = (int16_t)(levels[i] + 3);
}
