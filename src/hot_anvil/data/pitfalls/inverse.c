#include <stdint.h>

/* Is a byte of the frame the inverse of its check byte? ~ makes an int of it. */

int32_t inverse_byte(const uint8_t *frame, const uint8_t *check, int32_t n)
{
    int32_t good = 0;
    for (int32_t i = 0; i < n; i++)
        good += (uint8_t)~frame[i] == check[i];
    return good;
}

int32_t inverse_int(const uint8_t *frame, const uint8_t *check, int32_t n)
{
    int32_t good = 0;
    for (int32_t i = 0; i < n; i++)
        good += ~frame[i] == check[i];
    return good;
}
