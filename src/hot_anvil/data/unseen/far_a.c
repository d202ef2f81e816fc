#include <stdint.h>

double rate(int32_t level); /* the other file has it as a float */
int64_t gap(int32_t level);

int64_t rate_asked(int32_t level) { return (int64_t)rate(level); }
int64_t gap_asked(int32_t level) { return gap(level); }
