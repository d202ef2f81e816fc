// Objects of a tide gauge.
#include <array>
#include <vector>

struct Level {
    int millimetres;
    Level(int value);
    Level(const Level &other);
    ~Level();
};

Level make(int value)
{
    Level level(value);
    return level;
}

struct Sensor {
    virtual int read(int channel) const = 0;
};

struct Quay final : Sensor {
    int base;
    int read(int channel) const override { return base + channel; }
};

int poll(const Quay &quay, int channel)
{
    const Sensor &sensor = quay;
    return sensor.read(channel) * 3;
}

int checked(const std::array<int, 8> &levels, unsigned index)
{
    return levels.at(index & 7);
}

int checked_always(const std::vector<int> &levels, unsigned index)
{
    return levels.at(index);
}

struct Window {
    int sum = 0;
    void add(int level) { sum += level; }
};

int window_sum(int a, int b, int c)
{
    Window window;
    window.add(a);
    window.add(b);
    window.add(c);
    return window.sum;
}
