/* What a compiler does away with between source and assembly: follow it with 'hot-anvil stages'. */
#include <stdlib.h>
#include <string.h>

static int millimetres(int steps) { return steps * 5; }

/* The call goes: inlined early at -O3, by the whole-program inliner at -O1. */
int total(const int *steps, int n) {
  int sum = 0;
  for (int i = 0; i < n; i++)
    sum += millimetres(steps[i]);
  return sum;
}

/* The copy becomes one load and one store before any optimiser runs, or in one that combines. */
int third(const char *frame) {
  char own[16];
  memcpy(own, frame, 16);
  return own[3];
}

/* The allocation goes with all that it holds; the division becomes a multiplication. */
int week(int days) {
  int *held = malloc(sizeof *held);
  *held = days / 7;
  int weeks = *held;
  free(held);
  return weeks;
}

/* Four passes are written out. */
int four(const int *gauge) {
  int sum = 0;
  for (int i = 0; i < 4; i++)
    sum += gauge[i] * gauge[i];
  return sum;
}

/* The loop becomes a call of the library. */
void dry(char *levels, unsigned long n) {
  for (unsigned long i = 0; i < n; i++)
    levels[i] = 0;
}

/* Nothing is left of the loop: its result is known, or nobody asks for it. */
int wasted(int n) {
  int spent = 0;
  for (int i = 0; i < n; i++)
    spent += i;
  return n;
}
