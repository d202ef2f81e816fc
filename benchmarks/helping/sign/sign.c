#include <stdint.h>
int32_t sign(int32_t level)
{
    return (level >> 31) | (int32_t)((uint32_t)-(int64_t)level >> 31);
}
