#include <stdint.h>
int32_t decode(const uint8_t *code, int32_t n)
{
    int32_t state = 0, sum = 0;
    for (int32_t i = 0; i < n; i++) {
        switch (code[i]) {
        case 0: sum += state; break;
        case 1: state ^= sum; break;
        case 2: sum -= 3; break;
        case 3: state = state * 5 + 1; break;
        case 4: sum = sum * 7 + state; break;
        case 5: state += 11; break;
        case 6: sum ^= 21; break;
        case 7: sum += 1; break;
        default: state = sum / (state | 1); break;
        }
    }
    return sum + state;
}
