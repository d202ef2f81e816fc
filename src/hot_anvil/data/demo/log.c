#include <stdio.h>
#include <stdlib.h>

/* The gauge's log: reads a level in millimetres from each line of its input, and prints the high
 * waters, which are above both neighbours, with a line at the end that counts them. */

int main(int argc, char **argv)
{
    long alarm = argc > 1 ? atol(argv[1]) : 0;
    long before = 0, level = 0, next = 0;
    int line = 0, high = 0;
    while (scanf("%ld", &next) == 1) {
        if (line > 1 && level > before && level >= next) {
            printf("%4d  %5.2f m%s\n", line, (double)level / 1000, level > alarm ? "  alarm" : "");
            high++;
        }
        before = level;
        level = next;
        line++;
    }
    printf("%d high waters in %d lines\n", high, line);
    return line > 0 ? 0 : 1;
}
