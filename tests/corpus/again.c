/* Shapes of larger programs, made small: what a reason must not be said of, and what it must. */
#include <assert.h>
#include <stdint.h>
#include <string.h>

struct port;
int read_port(struct port *, int);
int port_failed(struct port *);
void raise_alarm(const char *);
void keep(int);
int next_base(struct port *, int);

struct gauge {
    struct port *port;
    int32_t low, high;
    int16_t at;
    int16_t quiet;
};

/* The pointer is copied before or after its first use; nothing is read less often. */
int read_gauge(struct gauge *gauge, int *out)
{
    *out = read_port(gauge->port, 1);
    return port_failed(gauge->port) == 0;
}

/* Both ways need gauge->at. */
int walkable(const struct gauge *gauge, int mark)
{
    if (gauge->quiet == 0)
        return next_base(gauge->port, gauge->low) + mark == gauge->low;
    return next_base(gauge->port, gauge->low) == gauge->at;
}

struct tide {
    int32_t level;
    int16_t kind;
    struct tide *next, *before;
};

/* What stands on both sides of a branch backwards is no loop. */
struct tide *pair_of(struct tide *tide)
{
    if (tide->next->level == tide->level && tide->next->kind == 0)
        return tide->next;
    if (tide->before->level == tide->level && tide->before->kind == 0)
        return tide->before;
    return 0;
}

/* The two ends of a link change places: two pointers at once, no pass more. */
void turn_round(struct tide *first)
{
    struct tide *one = first;
    do {
        struct tide *next = one->next;
        one->next = one->before;
        one->before = next;
        one = next;
    } while (one != first);
}

double area(const int64_t *level, const int64_t *width, int n)
{
    double sum = 0;
    for (int i = 0; i < n; i++)
        sum += (double)level[i] * (double)width[i];
    return sum;
}

/* Two that may be kept in each pass, each if it is wanted. */
int marked(const uint8_t *mark, int32_t *out, int n)
{
    int kept = 0;
    for (int i = 1; i <= n; i++) {
        if (mark[i] & 1)
            out[kept++] = i;
        if (mark[i] & 2)
            out[kept++] = -i;
    }
    return kept;
}

int same_name(const char *one, const char *other, size_t size)
{
    return memcmp(one, other, size) == 0;
}

/* What is tested is that a value of another line fits. */
int scaled_levels(const int32_t *level, const int32_t *weight, int n)
{
    int sum = 0;
    for (int i = 0; i < n; i++)
        sum += level[i] * weight[i] / 10000;
    return sum;
}

int alarm_level(struct gauge *gauge)
{
    if (gauge->quiet)
        return 0;
    keep(gauge->low);
    gauge->high += 1;
    return gauge->low + gauge->high;
}

/* A store of one byte and of its neighbour, on lines of their own. */
void start_frame(uint8_t *frame)
{
    *(uint64_t *)(frame + 40) = 0;
    frame[10] = 63;
    *(uint32_t *)(frame + 12) = 0;
    frame[11] = 0;
    *(uint64_t *)(frame + 32) = 0;
}

void add_both(int64_t *sum, int64_t by)
{
    for (int i = 0; i < 2; i++)
        sum[i] += by;
}

/* The way out stands once, or on each way of its own. */
int32_t *first_level(int32_t *level, int n)
{
    int32_t *found = next_base((struct port *)level, n) ? level : 0;
    if (found)
        keep(*found);
    return found;
}

void *take(struct gauge *);

/* What is rarely needed is a function of its own, called where it is. */
int mark_of(struct gauge *gauge)
{
    assert(gauge->port != 0);
    if (gauge->quiet)
        return gauge->low;
    return next_base(gauge->port, gauge->high);
}

int both_marks(struct gauge *one, struct gauge *other)
{
    return mark_of(one) + mark_of(other);
}
