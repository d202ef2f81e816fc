/* Small changes: each function changes in one small way between two builds. */
#include <stdint.h>

/* The same sum of two parameters: another one is read. */
int ebb_first(int ebb, int flow) { (void)flow; return ebb * 7; }
int flow_first(int ebb, int flow) { (void)ebb; return flow * 7; }

/* A loop by an index under clang, by a pointer under gcc. */
void raise_levels(int *levels, long n)
{
    for (long i = 0; i < n; i++)
        levels[i] += 3;
}

/* An int index is extended for the address, a long one need not be. */
int level_at(const int *levels, int at) { return levels[at]; }
int level_wide(const int *levels, long at) { return levels[at]; }

/* A test of what is known already. */
int sluice(unsigned gate)
{
    unsigned low = gate & 3;
    if (low > 3)
        return -1;
    return (int)low + 1;
}

extern int tide(int);
/* Two values live over the call, or three. */
int over_call(int a, int b) { return tide(a) + a * b; }
int over_call_more(int a, int b, int c) { return tide(a) + a * b * c; }
