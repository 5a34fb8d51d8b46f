/* The readings of each gauge are near the fitted curve. */
#include "harmonics.h"

#include <math.h>
#include <stdio.h>

int main(int count, char **files)
{
    int bad = 0;
    for (int i = 1; i < count; i++) {
        static struct readings readings;
        struct fit fit;
        int worst = 0;
        double most = 0.0;
        if (!read_station(files[i], &readings) || !fit_harmonics(&readings, &fit))
            return 1;
        for (int n = 0; n < readings.count; n++) {
            double off = fabs(tide_height(&fit, readings.hour[n]) - readings.height[n]);
            if (off > most) {
                most = off;
                worst = n;
            }
        }
        if (most > 0.5) {
            printf("%s: %.2f m off at hour %.0f\n", readings.name, most, readings.hour[worst]);
            bad = 1;
        }
    }
    return bad;
}
