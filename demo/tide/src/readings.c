#include "harmonics.h"

#include <stdio.h>

int read_station(const char *path, struct readings *readings)
{
    FILE *file = fopen(path, "r");
    if (!file) {
        perror(path);
        return 0;
    }
    readings->count = 0;
    int header = fscanf(file, "name,latitude %63[^,],%lf hour,height", readings->name, &readings->latitude);
    while (header == 2 && readings->count < 512
           && fscanf(file, "%lf,%lf", &readings->hour[readings->count], &readings->height[readings->count]) == 2)
        readings->count++;
    fclose(file);
    if (header != 2 || readings->count == 0) {
        fprintf(stderr, "%s: no readings in it\n", path);
        return 0;
    }
    return 1;
}
