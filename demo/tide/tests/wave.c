/* A wave that is made of the constituents is found again. */
#include "harmonics.h"

#include <math.h>
#include <stdio.h>

int main(void)
{
    static struct readings readings;
    struct fit made = {{3.0, 1.2, -0.4, 0.5, 0.1, 0.2, 0.0, -0.1, 0.3}}, found;
    readings.count = 400;
    for (int n = 0; n < readings.count; n++) {
        readings.hour[n] = 1.75 * n;
        readings.height[n] = tide_height(&made, readings.hour[n]);
    }
    if (!fit_harmonics(&readings, &found)) {
        printf("400 readings do not suffice\n");
        return 1;
    }
    for (int i = 0; i < UNKNOWNS; i++) {
        if (fabs(found.value[i] - made.value[i]) > 1e-6) {
            printf("value %d: wanted %.6f, found %.6f\n", i, made.value[i], found.value[i]);
            return 1;
        }
    }
    return 0;
}
