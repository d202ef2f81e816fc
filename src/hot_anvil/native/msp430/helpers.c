/* Integer helpers that compilers call on an MSP430 without a multiplier: the names are the ABI's.
 *
 * Nobody ships a library of them with clang. Each is the plain bit-by-bit way, so a call of one
 * costs the cycles of this code, not of a vendor's. */
typedef unsigned int u16;
typedef unsigned long u32;
typedef unsigned long long u64;

#define MULTIPLY(type, name)                                                                       \
    type name(type a, type b)                                                                      \
    {                                                                                              \
        type product = 0;                                                                          \
        for (; b; b >>= 1, a += a)                                                                 \
            if (b & 1) product += a;                                                               \
        return product;                                                                            \
    }

#define DIVIDE(type, name)                                                                         \
    static type name(type dividend, type divisor, type *rest)                                      \
    {                                                                                              \
        type quotient = 0, left = 0;                                                               \
        for (u16 bit = 8 * sizeof(type); bit; bit--) {                                             \
            type over = left >> (8 * sizeof(type) - 1);                                            \
            left = left + left + (dividend >> (8 * sizeof(type) - 1));                             \
            dividend += dividend;                                                                  \
            quotient += quotient;                                                                  \
            if (over || left >= divisor) {                                                         \
                left -= divisor;                                                                   \
                quotient |= 1;                                                                     \
            }                                                                                      \
        }                                                                                          \
        *rest = left;                                                                              \
        return quotient;                                                                           \
    }

#define DIVISIONS(signed_, type, divide, divs, rems, divu, remu)                                   \
    type divu(type a, type b) { type rest; return divide(a, b, &rest); }                           \
    type remu(type a, type b) { type rest; divide(a, b, &rest); return rest; }                     \
    signed_ divs(signed_ a, signed_ b)                                                             \
    {                                                                                              \
        type rest, of = divide(a < 0 ? -(type)a : (type)a, b < 0 ? -(type)b : (type)b, &rest);     \
        return (signed_)((a < 0) != (b < 0) ? -of : of);                                           \
    }                                                                                              \
    signed_ rems(signed_ a, signed_ b)                                                             \
    {                                                                                              \
        type rest;                                                                                 \
        divide(a < 0 ? -(type)a : (type)a, b < 0 ? -(type)b : (type)b, &rest);                     \
        return (signed_)(a < 0 ? -rest : rest);                                                    \
    }

#define SHIFTS(signed_, type, left, right, arithmetic)                                             \
    type left(type a, u16 by) { for (; by; by--) a += a; return a; }                               \
    type right(type a, u16 by) { for (; by; by--) a >>= 1; return a; }                             \
    signed_ arithmetic(signed_ a, u16 by) { for (; by; by--) a >>= 1; return a; }

MULTIPLY(u16, __mspabi_mpyi)
MULTIPLY(u32, __mspabi_mpyl)
MULTIPLY(u64, __mspabi_mpyll_in_c)
DIVIDE(u16, divide16)
DIVIDE(u32, divide32)
DIVIDE(u64, divide64)
DIVISIONS(int, u16, divide16, __mspabi_divi, __mspabi_remi, __mspabi_divu, __mspabi_remu)
DIVISIONS(long, u32, divide32, __mspabi_divli, __mspabi_remli, __mspabi_divul, __mspabi_remul)
DIVISIONS(long long, u64, divide64, __mspabi_divlli_in_c, __mspabi_remlli_in_c,
          __mspabi_divull_in_c, __mspabi_remull_in_c)
SHIFTS(int, u16, __mspabi_slli, __mspabi_srli, __mspabi_srai)
SHIFTS(long, u32, __mspabi_slll, __mspabi_srll, __mspabi_sral)
SHIFTS(long long, u64, __mspabi_sllll, __mspabi_srlll, __mspabi_srall)

void *memcpy(void *to, const void *from, u16 size)
{
    for (char *at = to, *end = at + size; at != end;) *at++ = *(const char *)from++;
    return to;
}

void *memmove(void *to, const void *from, u16 size)
{
    char *at = to;
    const char *of = from;
    if (at <= of) while (size--) *at++ = *of++;
    else while (size--) at[size] = of[size];
    return to;
}

void *memset(void *to, int byte, u16 size)
{
    for (char *at = to, *end = at + size; at != end;) *at++ = (char)byte;
    return to;
}

int memcmp(const void *one, const void *other, u16 size)
{
    const unsigned char *a = one, *b = other;
    for (; size && *a == *b; a++, b++) size--;
    return size ? *a - *b : 0;
}

u16 strlen(const char *text)
{
    const char *at = text;
    while (*at) at++;
    return (u16)(at - text);
}
