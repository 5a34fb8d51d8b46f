/* Days are read and counted. */
#include "clock.h"

#include <stdio.h>

int main(void)
{
    int year, month, day;
    if (!clock_day("2031-03-21", &year, &month, &day) || year != 2031 || month != 3 || day != 21)
        return printf("2031-03-21 was read as %d-%d-%d\n", year, month, day), 1;
    if (clock_day("yesterday", &year, &month, &day))
        return printf("`yesterday` was read as a day\n"), 1;
    double hours = clock_hours(2031, 3, 21);
    if (hours != 79 * 24.0)
        return printf("2031-03-21 begins %.1f hours into the year, not %.1f\n", hours, 79 * 24.0), 1;
    return 0;
}
