#include "clock.h"

#include <stdio.h>

int clock_day(const char *text, int *year, int *month, int *day)
{
    return sscanf(text, "%4d-%2d-%2d", year, month, day) == 3 && *month >= 1 && *month <= 12 && *day >= 1
        && *day <= 31;
}

/* Days since an arbitrary beginning, for the Gregorian calendar. */
static long days(int year, int month, int day)
{
    long y = month <= 2 ? year - 1 : year;
    long m = month <= 2 ? month + 9 : month - 3;
    return 365 * y + y / 4 - y / 100 + y / 400 + (153 * m + 2) / 5 + day;
}

double clock_hours(int year, int month, int day)
{
    return 24.0 * (double)(days(year, month, day) - days(2031, 1, 1));
}
