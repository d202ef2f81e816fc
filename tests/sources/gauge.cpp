// Templates, exceptions, virtual calls and a few headers' worth of inlined code.
#include <algorithm>
#include <stdexcept>
#include <string>
#include <vector>

struct Gauge {
    std::string name;
    std::vector<int> levels;
    virtual ~Gauge() = default;
    virtual int top() const
    {
        if (levels.empty())
            throw std::runtime_error("no levels from " + name);
        return *std::max_element(levels.begin(), levels.end());
    }
};

template <class T> T twice(T x) { return x + x; }

int top_of(const Gauge &gauge)
{
    try {
        return twice(gauge.top());
    } catch (const std::exception &e) {
        return static_cast<int>(std::string(e.what()).size());
    }
}

int count_above(const int *levels, int n, int &highest)
{
    std::vector<int> copy(levels, levels + n);
    std::sort(copy.begin(), copy.end());
    highest = copy.back();
    return static_cast<int>(copy.end() - std::upper_bound(copy.begin(), copy.end(), n));
}
