#include "mean.h"

double tide_mean(const double *heights, int count) {
    double sum = 0;
    for (int i = 0; i < count; i++) sum += heights[i];
    return count ? sum / count : 0;
}
