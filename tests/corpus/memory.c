/* Memory that others may see. */
#include <stdatomic.h>

int total;
atomic_int shared;
int plain_count;

void add_total(const int *level, int n)
{
    for (int i = 0; i < n; i++)
        total += level[i];
}

int write_both(int *a, short *b)
{
    *a = 1;
    *b = 2;
    return *a;
}

void publish(void)
{
    shared++;
}

void count_plain(void)
{
    plain_count++;
}

int fence(int x)
{
    __asm__ volatile("nop");
    return x;
}

int spill(const int *p)
{
    int a = p[0], b = p[1], c = p[2];
    return (a + b) * (b + c) * (a + c);
}

void fill_page(char *out)
{
    char local[6000];
    for (int i = 0; i < 6000; i++)
        local[i] = out[i] ^ 1;
    for (int i = 0; i < 6000; i++)
        out[i] = local[5999 - i];
}
