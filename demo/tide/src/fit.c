#include "harmonics.h"

#include <math.h>

/* Speeds of M2, S2, K1 and O1 in degrees an hour. */
static const double speed[CONSTITUENTS] = {28.9841042, 30.0, 15.0410686, 13.9430356};

static void basis(double hour, double *row)
{
    const double radians = 3.14159265358979323846 / 180.0;
    row[0] = 1.0;
    for (int i = 0; i < CONSTITUENTS; i++) {
        row[1 + 2 * i] = cos(speed[i] * hour * radians);
        row[2 + 2 * i] = sin(speed[i] * hour * radians);
    }
}

/* Solves the normal equations by elimination with pivots. */
static int solve(double m[UNKNOWNS][UNKNOWNS + 1], double *x)
{
    for (int column = 0; column < UNKNOWNS; column++) {
        int pivot = column;
        for (int row = column + 1; row < UNKNOWNS; row++)
            if (fabs(m[row][column]) > fabs(m[pivot][column]))
                pivot = row;
        if (fabs(m[pivot][column]) < 1e-9)
            return 0;
        for (int i = 0; i <= UNKNOWNS; i++) {
            double other = m[column][i];
            m[column][i] = m[pivot][i];
            m[pivot][i] = other;
        }
        for (int row = 0; row < UNKNOWNS; row++) {
            double factor = row == column ? 0.0 : m[row][column] / m[column][column];
            for (int i = column; i <= UNKNOWNS; i++)
                m[row][i] -= factor * m[column][i];
        }
    }
    for (int i = 0; i < UNKNOWNS; i++)
        x[i] = m[i][UNKNOWNS] / m[i][i];
    return 1;
}

int fit_harmonics(const struct readings *readings, struct fit *fit)
{
    double m[UNKNOWNS][UNKNOWNS + 1] = {{0.0}};
    for (int n = 0; n < readings->count; n++) {
        double row[UNKNOWNS];
        basis(readings->hour[n], row);
        for (int i = 0; i < UNKNOWNS; i++) {
            for (int j = 0; j < UNKNOWNS; j++)
                m[i][j] += row[i] * row[j];
            m[i][UNKNOWNS] += row[i] * readings->height[n];
        }
    }
    return solve(m, fit->value);
}

double tide_height(const struct fit *fit, double hour)
{
    double row[UNKNOWNS], height = 0.0;
    basis(hour, row);
    for (int i = 0; i < UNKNOWNS; i++)
        height += row[i] * fit->value[i];
    return height;
}
