/* Loops over water levels. */
#include <stddef.h>
#include <string.h>

int sum_levels(const int *level, int n)
{
    int sum = 0;
    for (int i = 0; i < n; i++)
        sum += level[i];
    return sum;
}

void lift(int *restrict out, const int *restrict level, int n)
{
    for (int i = 0; i < n; i++)
        out[i] = level[i] + 3;
}

void blend(int *out, const int *one, const int *scale, int n)
{
    for (int i = 0; i < n; i++)
        out[i] = one[i] * *scale;
}

void blend_apart(int *restrict out, const int *restrict one, const int *restrict scale, int n)
{
    for (int i = 0; i < n; i++)
        out[i] = one[i] * *scale;
}

void wipe(char *log, size_t n)
{
    for (size_t i = 0; i < n; i++)
        log[i] = 0;
}

void keep(int *restrict to, const int *restrict from, size_t n)
{
    for (size_t i = 0; i < n; i++)
        to[i] = from[i];
}

int ten_tides(void)
{
    int sum = 0;
    for (int i = 1; i <= 10; i++)
        sum += i * i;
    return sum;
}

int triangle(int n)
{
    int sum = 0;
    for (int i = 0; i < n; i++)
        sum += i;
    return sum;
}

void pause_gauge(int n)
{
    for (int i = 0; i < n; i++)
        ;
}

int four(const int *level)
{
    int sum = 0;
    for (int i = 0; i < 4; i++)
        sum += level[i] * level[i];
    return sum;
}

int lowest(const int *level, int n)
{
    int low = level[0];
    for (int i = 1; i < n; i++)
        if (level[i] < low)
            low = level[i];
    return low;
}

int crossings(const short *level, int n, int alarm)
{
    int count = 0;
    for (int i = 1; i < n; i++)
        if (level[i - 1] < alarm && level[i] >= alarm)
            count++;
    return count;
}

double mean_square(const double *level, int n)
{
    double sum = 0;
    for (int i = 0; i < n; i++)
        sum += level[i] * level[i];
    return sum;
}

void scale_feet(float *restrict feet, const float *restrict metres, int n)
{
    for (int i = 0; i < n; i++)
        feet[i] = metres[i] * 3.25f;
}

unsigned crc_step(unsigned crc, const unsigned char *frame, int n)
{
    while (n-- > 0)
        crc = (crc >> 1) ^ *frame++;
    return crc;
}

void divide_all(int *level, int n, int by)
{
    for (int i = 0; i < n; i++)
        level[i] /= by * by;
}
