/* Free of headers, so that every compiler for every chip takes it. */

extern int signal_lamp(const char *place, int code);

static inline int limit(int level, int low, int high)
{
    if (level < low)
        return low;
    if (level > high)
        return high;
    return level;
}

long total(const short *levels, int n, int low, int high)
{
    long sum = 0;
    for (int i = 0; i < n; i++)
        sum += limit(levels[i], low, high);
    return sum;
}

int lamp(int code)
{
    switch (code) {
    case 0:
        return signal_lamp("quay", 17);
    case 1:
        return signal_lamp("mole # 2; east", 4711);
    case 2:
        return signal_lamp("pier @ west", code * 77);
    case 3:
        return signal_lamp("lock // north", code / 10);
    case 4:
        return signal_lamp("basin", 9);
    case 5:
        return signal_lamp("buoy", 1234);
    case 6:
        return signal_lamp("\"ebb\"\\", 3);
    }
    __asm__ volatile("nop\n\tnop");
    return -1;
}

double feet(double millimetres, long long *whole, unsigned long long key)
{
    *whole = key / 10 + key * 1000003;
    return millimetres * 0.00328084 + 1.5;
}

__attribute__((noinline)) static int chain(int depth)
{
    return depth ? limit(chain(depth - 1) + 3, -9, 9) : 0;
}

int (*const links[])(int) = {chain, lamp};

int follow(int which, int depth)
{
    return links[which & 1](depth) + chain(depth);
}
