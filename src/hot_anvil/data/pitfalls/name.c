#include <stdint.h>
#include <string.h>

/* The first letter of a berth's name, by way of a text made for it. */

static const char *name_on_stack(int32_t berth)
{
    char text[16];
    memset(text, 'a' + berth % 20, sizeof text - 1);
    text[15] = 0;
    const char *volatile made = text;
    return made;
}

static const char *name_kept(int32_t berth)
{
    static char text[16];
    memset(text, 'a' + berth % 20, sizeof text - 1);
    return text;
}

int32_t name_static(int32_t berth)
{
    return name_kept(berth)[3];
}

int32_t name_gone(int32_t berth)
{
    return name_on_stack(berth)[3];
}
