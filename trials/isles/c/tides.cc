#include "stations.h"
#include "tides.h"
#include <string>

extern "C" double height(double hour);

double water_over(const char *code, double hour) {
    std::string name(code);
    return depth_of(name.c_str()) / 100.0 + height(hour);
}
