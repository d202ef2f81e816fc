/* Code for the gauge's small chips: no library headers. */
unsigned char port_mask(unsigned char pin)
{
    return 1 << pin;
}

long area(int width, int height)
{
    return (long)width * height;
}

unsigned tenth(unsigned level)
{
    return level / 10;
}

unsigned sixteenth(unsigned level)
{
    return level / 16;
}

unsigned char checksum(const unsigned char *frame, unsigned char n)
{
    unsigned char sum = 0;
    while (n--)
        sum += *frame++;
    return sum;
}

volatile unsigned char ready;

void wait_ready(void)
{
    while (!ready)
        ;
}

void settle(unsigned n)
{
    while (n--)
        __asm__ volatile("" ::: "memory");
}

unsigned idle(void)
{
    unsigned spent = 0;
    for (unsigned i = 0; i < 200; i++)
        spent += 2;
    return spent;
}

static unsigned char high(unsigned value)
{
    return value >> 8;
}

unsigned char both(unsigned value)
{
    return high(value) ^ (unsigned char)value;
}

unsigned char next(unsigned char state)
{
    if (state == 0)
        return 3;
    if (state == 1)
        return 7;
    if (state == 2)
        return 1;
    if (state == 3)
        return 9;
    return 0;
}

void send(unsigned char);

void send_word(unsigned value)
{
    send(value >> 8);
    send(value);
}
