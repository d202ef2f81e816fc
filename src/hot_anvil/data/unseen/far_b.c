#include <stdint.h>

float rate(int32_t level) { return (float)level / 2; }
int64_t gap(int32_t level) { return level - 7; }
