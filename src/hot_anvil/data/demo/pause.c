/* The sampling pause of the gauge's small chip. It is in no snippet of the bench:
 * look at it with  hot-anvil facts pause.c --build "gcc -O0" --build "gcc -O2"  */

void pause_gauge(unsigned passes)
{
    while (passes--)
        ;
}

/* One that compilers keep: each pass is an access that they must make. */

void pause_kept(unsigned passes)
{
    for (volatile unsigned left = passes; left; left--)
        ;
}

unsigned samples_a_day(void)
{
    unsigned minutes = 24 * 60;
    return minutes * 2;
}
