#include <stdio.h>
#include <string.h>

#include "clock.h"
#include "harmonics.h"
#include "station_codes.h"

static void print_day(const struct readings *readings, const struct fit *fit, double start, int html)
{
    if (html)
        printf("<section>\n<h2>%s</h2>\n<table>\n", readings->name);
    else
        printf("%s, heights in metres\n", readings->name);
    for (int hour = 0; hour < 24; hour += 3) {
        double height = tide_height(fit, start + hour);
        printf(html ? "<tr><td>%02d:00</td><td>%.2f</td></tr>\n" : "  %02d:00  %5.2f  ", hour, height);
        if (!html) {
            for (int i = 0; i < (int)(height * 8.0); i++)
                putchar('~');
            putchar('\n');
        }
    }
    if (html)
        puts("</table>\n</section>");
}

static int print_cover(const char *title, char **paths, int count)
{
    struct readings readings;
    printf("<!doctype html>\n<meta charset=\"utf-8\">\n<title>%s</title>\n<h1>%s</h1>\n<ol>\n", title, title);
    for (int i = 0; i < count; i++) {
        if (!read_station(paths[i], &readings))
            return 1;
        printf("<li>%s, %.2f north</li>\n", readings.name, readings.latitude);
    }
    puts("</ol>");
    return 0;
}

int main(int count, char **words)
{
    int html = 0, year = 2031, month = 1, day = 1;
    const char *path = NULL;
    if (count > 2 && strcmp(words[1], "--cover") == 0)
        return print_cover(words[2], words + 3, count - 3);
    for (int i = 1; i < count; i++) {
        if (strcmp(words[i], "--page") == 0) {
            html = 1;
        } else if (strcmp(words[i], "--codes") == 0) {
            for (size_t n = 0; n < sizeof station_codes / sizeof *station_codes; n++)
                printf("%-8s %s\n", station_codes[n].code, station_codes[n].name);
            return 0;
        } else if (strcmp(words[i], "--day") == 0 && i + 1 < count) {
            if (!clock_day(words[++i], &year, &month, &day)) {
                fprintf(stderr, "%s is no day such as 2031-03-21\n", words[i]);
                return 2;
            }
        } else {
            path = words[i];
        }
    }
    struct readings readings;
    struct fit fit;
    if (!path) {
        fprintf(stderr, "usage: tidecast [--page] [--day YEAR-MONTH-DAY] STATION.csv | --codes\n");
        return 2;
    }
    if (!read_station(path, &readings))
        return 1;
    if (!fit_harmonics(&readings, &fit)) {
        fprintf(stderr, "%s: too few readings\n", path);
        return 1;
    }
    print_day(&readings, &fit, clock_hours(year, month, day), html);
    return 0;
}
