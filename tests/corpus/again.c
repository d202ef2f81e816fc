/* Shapes of larger programs, made small: what a reason must not be said of, and what it must. */
#include <assert.h>
#include <stdint.h>

struct port;
int read_port(struct port *, int);
int port_failed(struct port *);
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

struct tide {
    int32_t level;
    int16_t kind;
    struct tide *next, *before;
};

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
