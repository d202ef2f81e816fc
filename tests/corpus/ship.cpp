#include <cstdint>
#include <string>
#include <utility>
#include <memory>

struct Tide { long a, b, c, d; Tide(long x) : a(x), b(x), c(x), d(x) {} Tide(const Tide &); };
Tide tide_at(long x) { return Tide(x); }
Tide forward_tide(long x) { Tide t = tide_at(x); return t; }

class Base { public: virtual ~Base() = default; virtual int id() const { return 1; } };
class Lamp final : public Base { public: int id() const override { return 42; } };
int lamp_id(Lamp &l) { Base &b = l; return b.id(); }

int throwing(int index, int size)
{
    if (index >= size) throw 5;
    return index * 2;
}

template <class T> T biggest(T a, T b) { return a > b ? a : b; }
int biggest_of(int a, int b, int c) { return biggest(biggest(a, b), c); }
