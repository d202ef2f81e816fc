#include <stdint.h>
#include <stdlib.h>
#include <string.h>

typedef struct { int16_t level; uint8_t quality; uint8_t pad; int32_t stamp; } Sample;

/* smoothing */
void smooth(float *dst, const float *src, unsigned count)
{
    unsigned k = 1;
    while (k + 1 < count) {
        dst[k] = (src[k - 1] + src[k] + src[k + 1]) / 3.0f;
        k++;
    }
}

uint32_t weigh(const uint8_t *bytes, size_t len)
{
    uint32_t acc = 0;
    const uint8_t *end = bytes + len;
    do {
        acc += *bytes++;
    } while (bytes != end);
    return acc;
}

int good_samples(const Sample *s, int n)
{
    int good = 0;
    for (int i = 0; i < n; ++i) {
        if (s[i].quality > 3)
            good++;
    }
    return good;
}

void stamp_all(Sample *s, int n, const int32_t *base)
{
    for (int i = 0; i < n; ++i)
        s[i].stamp = *base;
}

static inline int16_t saturate(int32_t v)
{
    if (v > 32767) v = 32767;
    if (v < -32768) v = -32768;
    return (int16_t)v;
}

int16_t add_levels(int16_t a, int16_t b)
{
    return saturate((int32_t)a + b);
}

int months(int days)
{
    return days / 30 + 1;
}

unsigned seconds_of_day(unsigned t)
{
    return t % 86400u;
}

int is_even_week(int day)
{
    return (day / 14) * 2;
}

long scale_mm(long feet)
{
    return feet * 3048 / 10;
}

int bit_count(unsigned v)
{
    int c = 0;
    for (; v; v &= v - 1)
        c++;
    return c;
}

double horner(const double *c, int n, double x)
{
    double r = 0;
    for (int i = n - 1; i >= 0; i--)
        r = r * x + c[i];
    return r;
}

float dist(float ax, float ay, float bx, float by)
{
    float dx = ax - bx, dy = ay - by;
    return dx * dx + dy * dy;
}

int sum_to_hundred(void)
{
    int total = 0;
    int i = 0;
    while (i <= 100) {
        total += i;
        i++;
    }
    return total;
}

int first_quiet(const int *level, int n)
{
    for (int i = 0; i < n; i++)
        if (level[i] == 0)
            return i;
    return -1;
}

void clear_samples(Sample *s, int n)
{
    for (int i = 0; i < n; i++) {
        s[i].level = 0;
        s[i].quality = 0;
        s[i].pad = 0;
        s[i].stamp = 0;
    }
}

const char *tide_name(int phase)
{
    switch (phase) {
    case 0: return "low";
    case 1: return "rising";
    case 2: return "high";
    case 3: return "falling";
    case 4: return "slack";
    default: return "unknown";
    }
}

extern int open_gate(void), close_gate(void), raise_alarm(void), log_quiet(void), wait_tide(void);

int act(int command)
{
    switch (command) {
    case 1: return open_gate();
    case 2: return close_gate();
    case 3: return raise_alarm();
    case 4: return log_quiet();
    case 5: return wait_tide();
    default: return -1;
    }
}

int limit(int v, unsigned top)
{
    return v < (int)top ? v : (int)top;
}

int limit_unsigned(int v, unsigned top)
{
    return (unsigned)v < top ? v : (int)top;
}

int gcd(int a, int b)
{
    if (b == 0)
        return a;
    return gcd(b, a % b);
}

void twice_store(int *a, const int *b)
{
    a[0] = *b + 1;
    a[1] = *b + 2;
}

void twice_store_apart(int *restrict a, const int *restrict b)
{
    a[0] = *b + 1;
    a[1] = *b + 2;
}

int debug_trace(int v)
{
    int copy[4] = { v, v, v, v };
    int unused = copy[0] / (copy[1] | 1);
    (void)unused;
    return v + 5;
}

typedef int (*handler)(int);
static int on_tide(int v) { return v ^ 0x55; }

int fire(int v)
{
    handler h = on_tide;
    return h(v) - 2;
}

int letter(int c)
{
    return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z');
}

char *duplicate(const char *text)
{
    size_t n = strlen(text);
    char *out = malloc(n + 1);
    memcpy(out, text, n + 1);
    return out;
}

void swap_bytes(uint16_t *w, int n)
{
    for (int i = 0; i < n; i++)
        w[i] = (uint16_t)(w[i] >> 8 | w[i] << 8);
}

int nested(const int *m, int rows, int cols)
{
    int t = 0;
    for (int r = 0; r < rows; r++)
        for (int c = 0; c < cols; c++)
            t += m[r * cols + c];
    return t;
}
