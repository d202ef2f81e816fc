#include <stdbool.h>
#include <stdint.h>

/* Sound code on structs: by value, by pointer, with padding, inside one another. */

enum tide { EBB, FLOW };

struct place { double east, north; };
struct gauge { int8_t berth; int32_t level; struct place at; int16_t last[3]; bool open; };
struct pair { float low, high; };

double near(struct place a, struct place b)
{
    return (a.east - b.east) * (a.east - b.east) + (a.north - b.north) * (a.north - b.north);
}

int32_t lowest(const struct gauge *gauges, int32_t n)
{
    int32_t low = INT32_MAX;
    for (int32_t i = 0; i < n; i++)
        if (gauges[i].open && gauges[i].level < low)
            low = gauges[i].level;
    return low;
}

void renew(struct gauge *gauges, int32_t n)
{
    for (int32_t i = 0; i < n; i++) {
        gauges[i].last[2] = gauges[i].last[1];
        gauges[i].last[1] = gauges[i].last[0];
        gauges[i].last[0] = (int16_t)(gauges[i].level / 16);
    }
}

struct pair ends(const float *heights, int32_t n)
{
    struct pair found = { 0, 0 };
    for (int32_t i = 0; i < n; i++) {
        found.low = heights[i] < found.low ? heights[i] : found.low;
        found.high = heights[i] > found.high ? heights[i] : found.high;
    }
    return found;
}

enum tide turn(int16_t before, int16_t now, bool spring)
{
    return now > before + (spring ? 5 : 0) ? FLOW : EBB;
}
