inline int step(int level) { return level + 2; }
inline int pace(int level) { return level + 3; }
int other(int level) { return step(level) - pace(level); }
