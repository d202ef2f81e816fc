#include <stdint.h>
#include <string.h>

/* The length of a station's name, of at most n letters. */

int32_t letters_bound(const char *name, int32_t n)
{
    return (int32_t)strnlen(name, (size_t)n);
}

int32_t letters_ended(const char *name, int32_t n)
{
    (void)n;
    return (int32_t)strlen(name);
}
