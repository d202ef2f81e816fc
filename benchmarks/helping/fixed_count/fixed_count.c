#include <stdint.h>
int32_t weighted(const int16_t *levels, const int16_t *weights, int32_t taps, int32_t n)
{
    int32_t most = 0;
    for (int32_t i = 0; i + taps <= n; i++) {
        int32_t sum = 0;
        for (int32_t k = 0; k < taps; k++)
            sum += levels[i + k] * weights[k];
        most = sum > most ? sum : most;
    }
    return most;
}
