#include <stdint.h>

/* How often each byte of a frame comes. The bytes of the second have a sign. */

void tally_bytes(const uint8_t *frame, int32_t n, int32_t *times)
{
    for (int32_t i = 0; i < n; i++)
        times[frame[i]]++;
}

void tally_chars(const uint8_t *frame, int32_t n, int32_t *times)
{
    for (int32_t i = 0; i < n; i++)
        times[(int8_t)frame[i]]++;
}
