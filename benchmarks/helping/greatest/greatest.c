#include <stdint.h>
uint32_t greatest(uint32_t a, uint32_t b)
{
    while (b) {
        uint32_t rest = a % b;
        a = b;
        b = rest;
    }
    return a;
}
