#ifndef CLOCK_H
#define CLOCK_H

/* A day of the almanac, from text such as 2031-03-21; returns 0 when the text is none. */
int clock_day(const char *text, int *year, int *month, int *day);

/* Hours from the beginning of 2031 to the beginning of a day. */
double clock_hours(int year, int month, int day);

#endif
