#include <vector>
#include "own.h"

int pair(int x) {
    std::vector<int> both(2, x);
    return both[0] + both[1];
}
