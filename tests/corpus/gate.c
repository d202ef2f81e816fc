typedef unsigned uint32_t;
typedef unsigned long long uint64_t;

/* the lock gate of the harbour */
enum { SHUT, OPENING, OPEN, CLOSING };

struct gate { int state; int height; uint32_t log[16]; };

int next_state(int s)
{
    if (s == SHUT) return OPENING;
    if (s == OPENING) return OPEN;
    if (s == OPEN) return CLOSING;
    return SHUT;
}

unsigned log_sum(const struct gate *g)
{
    unsigned t = 0;
    for (unsigned k = 0; k < 16; k++)
        t += g->log[k];
    return t;
}

void log_shift(struct gate *g, uint32_t v)
{
    for (int k = 15; k > 0; k--)
        g->log[k] = g->log[k - 1];
    g->log[0] = v;
}

int absolute(int v) { return v < 0 ? -v : v; }

int minimum(int a, int b) { if (a < b) return a; return b; }

double larger_level(double a, double b) { return a > b ? a : b; }

int hours(int minutes) { return minutes / 60; }
int quarter(int v) { return v / 4; }
unsigned rest(unsigned v) { return v % 10; }
int by_hundred(int v) { return v * 100; }
int by_nine(int v) { return v * 9; }

uint64_t wide(uint64_t a) { return a * 24; }

float average(const float *v, int n)
{
    float t = 0.0f;
    for (int i = 0; i < n; i++)
        t += v[i];
    return t / n;
}

void gain(float *v, int n, float k)
{
    for (int i = 0; i < n; i++)
        v[i] *= k;
}

int find_code(const char *text, char wanted)
{
    int at = 0;
    while (text[at] && text[at] != wanted)
        at++;
    return at;
}

int both_open(int a, int b, int c)
{
    if (a > 3 && b > 3 && c > 3)
        return 1;
    return 0;
}

int power(int base, int exponent)
{
    int r = 1;
    while (exponent > 0) {
        if (exponent & 1)
            r *= base;
        base *= base;
        exponent >>= 1;
    }
    return r;
}

int cube_of_five(void)
{
    int v = 5, r = 1;
    for (int i = 0; i < 3; i++)
        r *= v;
    return r;
}

extern void signal_lamp(int);
static void blink(int times) { for (int i = 0; i < times; i++) signal_lamp(i); }
void blink_twice(void) { blink(2); }

static int adjust(int v) { return v > 9 ? v - 9 : v; }
int adjusted(int a, int b) { return adjust(a) * adjust(b); }

extern int measure(int);
int last_call(int v) { if (v > 4) return measure(v); return 0; }

void accumulate(long *sum, const int *v, int n)
{
    for (int i = 0; i < n; i++)
        *sum += v[i];
}

volatile int port;
int read_port_twice(void) { return port + port; }

int keep_both(int *a, int *b)
{
    int x = *a;
    *b = 7;
    return x + *a;
}
