#include "tides.h"
#include <stdio.h>

int main(void) {
    double water = water_over("ardle", 0);
    printf("ardle %.2f\n", water);
    return water < 6.11 || water > 6.13;
}
