// Constructors that make an object: no copy is left out where one is written out in place.
struct Quay {
    Quay();
    Quay *next, *before, *above;
    int level, mark;
    bool open;
};

Quay::Quay() : next(nullptr), before(nullptr), above(nullptr), level(0), mark(0), open(false) {}

struct Harbour {
    explicit Harbour(int depth);
    virtual ~Harbour();
    int depth;
    Quay quay;
};

Harbour::Harbour(int deep) : depth(deep), quay() {}
