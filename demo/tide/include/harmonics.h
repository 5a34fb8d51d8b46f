#ifndef HARMONICS_H
#define HARMONICS_H

/* Constituents that are fitted: the mean level and four tidal waves. */
enum { CONSTITUENTS = 4, UNKNOWNS = 1 + 2 * CONSTITUENTS };

/* A mean level and the two amplitudes of each wave, in metres. */
struct fit {
    double value[UNKNOWNS];
};

/* Readings of a gauge: hours since the beginning of 2031, metres above the gauge's zero. */
struct readings {
    char name[64];
    double latitude;
    int count;
    double hour[512];
    double height[512];
};

/* Reads a station's file; returns 0 and says why on stderr when it cannot. */
int read_station(const char *path, struct readings *readings);

/* Fits the constituents to readings by least squares; returns 0 when they do not suffice. */
int fit_harmonics(const struct readings *readings, struct fit *fit);

/* The height at an hour, in metres. */
double tide_height(const struct fit *fit, double hour);

#endif
