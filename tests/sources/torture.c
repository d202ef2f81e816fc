/* Code that makes assembly hard to read: every construct here once misled a reader. */
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

const char *const notice = "high water; # not a comment, \"quoted\" // .loc 1 2 3";

struct station { int32_t level; char name[20]; };

__attribute__((noinline, cold)) static void alarm_bell(int32_t level)
{
    if (level > 9000)
        abort();
}

static inline int32_t square(int32_t x) { return x * x; }

int32_t harbour(int32_t code, int32_t level)
{
    switch (code) {
    case 1: return level + 5;
    case 2: return level * 7;
    case 3: return level / 3;
    case 4: return level ^ 21;
    case 5: return level % 10;
    case 6: return level << 2;
    default: return 0;
    }
}

int32_t fences(volatile int32_t *p)
{
    __asm__ volatile("nop ; lock; addl $0, (%%rsp)\n1: jmp 1f\n1:\n\trep; nop" ::: "memory");
    __atomic_fetch_add(p, 3, __ATOMIC_SEQ_CST);
    return __atomic_exchange_n(p, 4, __ATOMIC_ACQ_REL);
}

void copy_station(struct station *to, const struct station *from)
{
    *to = *from;
    memset(to->name, 0, sizeof to->name);
}

int32_t surge(const int32_t *levels, int32_t n)
{
    int32_t sum = 0;
    for (int32_t i = 0; i < n; i++) {
        if (__builtin_expect(levels[i] < 0, 0))
            alarm_bell(levels[i]);
        sum += square(levels[i]) >> 1;
    }
    return sum;
}

double mean(const double *levels, int32_t n, long double scale)
{
    long double sum = 0;
    for (int32_t i = 0; i < n; i++)
        sum += levels[i] * scale;
    return (double)(sum / n);
}

int32_t visits(void) { static int32_t calls; static int64_t local = 7; return ++calls + local; }

uint32_t last_bit(uint32_t x) { return x & -x; }

int32_t depth(int32_t n) { return n <= 1 ? 1 : n * depth(n - 1); }

int main(int argc, char **argv)
{
    return argc > 1 ? harbour(atoi(argv[1]), 12) : (int)strlen(notice);
}
