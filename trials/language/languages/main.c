#include <stdio.h>
#include "constants.h"

int main(void) { printf("%d %d\n", DEPTH, STATIONS); }
