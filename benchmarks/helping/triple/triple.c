#include <stdint.h>
int32_t with_product(int32_t sum, int32_t a, int32_t b);
void product(int32_t *out, const int32_t *a, const int32_t *b, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        for (int32_t j = 0; j < n; j++) {
            int32_t sum = 0;
            for (int32_t k = 0; k < n; k++)
                sum = with_product(sum, a[i * n + k], b[k * n + j]);
            out[i * n + j] = sum;
        }
}
