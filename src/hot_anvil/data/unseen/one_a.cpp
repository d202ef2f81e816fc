inline int step(int level) { return level + 1; }
inline int pace(int level) { return level + 3; }
int stepped(int level) { return step(level) + pace(level); }
