#include <emmintrin.h>
#include <stdint.h>

/* The first eight levels of a frame, which starts at any byte. */

int32_t vector_loose(const int16_t *frame)
{
    int16_t kept[8];
    _mm_storeu_si128((__m128i *)kept, _mm_loadu_si128((const __m128i *)frame));
    return kept[0] + kept[7];
}

int32_t vector_aligned(const int16_t *frame)
{
    int16_t kept[8];
    _mm_storeu_si128((__m128i *)kept, _mm_load_si128((const __m128i *)frame));
    return kept[0] + kept[7];
}
