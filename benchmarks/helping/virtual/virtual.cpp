#include <cstdint>
struct Gauge { virtual int32_t read(int32_t raw) const { return raw; } virtual ~Gauge() {} };
struct Tide : Gauge { int32_t read(int32_t raw) const override { return raw * 3 + 1; } };
static int32_t total_of(const Tide &gauge, const int32_t *levels, int32_t n)
{
    int32_t sum = 0;
    for (int32_t i = 0; i < n; i++)
        sum += gauge.read(levels[i]);
    return sum;
}
const Tide *the_gauge() __attribute__((noipa));
const Tide *the_gauge() { static Tide gauge; return &gauge; }
extern "C" int32_t total(const int32_t *levels, int32_t n)
{
    return total_of(*the_gauge(), levels, n);
}
