/* Arithmetic and branches on one value. */
int tenths(int level)
{
    return level / 10;
}

unsigned eighths(unsigned level)
{
    return level / 8;
}

int tens(int level)
{
    return level * 10;
}

int sevens(int level)
{
    return level * 7;
}

int clamp(int level, int low, int high)
{
    if (level < low)
        return low;
    if (level > high)
        return high;
    return level;
}

int larger(int a, int b)
{
    return a > b ? a : b;
}

int above(int level, unsigned alarm)
{
    if (level > (int)alarm)
        return 12;
    return 40;
}

int above_wrong(int level, unsigned alarm)
{
    if ((unsigned)level > alarm)
        return 12;
    return 40;
}

int station(int code)
{
    switch (code) {
    case 0:
        return 17;
    case 1:
        return 23;
    case 2:
        return 99;
    case 3:
        return -4;
    case 4:
        return 1000;
    case 5:
        return 12;
    }
    return 0;
}

int quay(int), pier(int), lock_gate(int), basin(int), mole(int), dock(int);

int dispatch(int code, int level)
{
    switch (code) {
    case 10:
        return quay(level) + 1;
    case 11:
        return pier(level) + 2;
    case 12:
        return lock_gate(level) + 3;
    case 13:
        return basin(level) + 4;
    case 14:
        return mole(level) + 5;
    case 15:
        return dock(level) + 6;
    }
    return 0;
}

int digit(char c)
{
    return c >= '0' && c <= '9';
}

double mix(double a, double b, double c)
{
    return a * b + c;
}

double four_sum(double a, double b, double c, double d)
{
    return a + b + c + d;
}

double third(double level)
{
    return level / 3.0;
}

int day(void)
{
    int hours = 24;
    int minutes = hours * 60;
    return minutes * 60;
}

int same(int a)
{
    return a ^ 21;
}
