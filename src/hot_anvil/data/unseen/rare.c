#include <stdint.h>

/* Values that come up rarely: a test that draws at random misses them. */

int32_t band_all(int32_t level) { return level * 2; }
int32_t band_but_one(int32_t level) { return level == 61013 ? 0 : level * 2; }

int32_t berth_all(int32_t code)
{
    switch (code) {
    case 310: return 1;
    case 4990: return 2;
    case 91207: return 3;
    }
    return 0;
}

int32_t berth_mixed(int32_t code)
{
    switch (code) {
    case 310: return 1;
    case 4990: return 3;
    case 91207: return 2;
    }
    return 0;
}

int32_t spring_inside(int32_t level) { return level >= 40000 && level <= 40004; }
int32_t spring_short(int32_t level) { return level >= 40000 && level < 40004; }

int32_t marks_counted(const int32_t *levels, int32_t n)
{
    int32_t count = 0;
    for (int32_t i = 0; i < n; i++)
        count += levels[i] == -32767;
    return count;
}

int32_t marks_once(const int32_t *levels, int32_t n)
{
    for (int32_t i = 0; i < n; i++)
        if (levels[i] == -32767)
            return 1;
    return 0;
}

int32_t leap_right(int32_t year) { return (year % 4 == 0 && year % 100 != 0) || year % 400 == 0; }
int32_t leap_short(int32_t year) { return year % 4 == 0 && year % 100 != 0; }

int32_t mark_at(float height) { return height == 12.25f ? 9 : height > 4.5f; }
int32_t mark_past(float height) { return height > 4.5f; }

int32_t sign_counted(const char *text, int32_t n)
{
    int32_t count = 0;
    for (int32_t i = 0; i < n; i++)
        count += text[i] == '~';
    return count;
}

int32_t sign_missed(const char *text, int32_t n)
{
    int32_t count = 0;
    for (int32_t i = 0; i < n; i++)
        count += text[i] == '~' + 1;
    return count;
}
