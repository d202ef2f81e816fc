#include <pthread.h>
#include <stdio.h>

static int tides;

static void *count(void *mark)
{
    for (int i = 0; i < 1000; i++)
        tides++;
    return mark;
}

int main(void)
{
    pthread_t other;
    pthread_create(&other, 0, count, 0);
    count(0);
    pthread_join(other, 0);
    printf("%s\n", tides > 0 ? "tides seen" : "none");
    return 0;
}
