double tide_mean(const double *heights, int count);
