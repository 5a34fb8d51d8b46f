#include <stdio.h>
#include "config.h"

int main(void) {
#ifdef HAVE_HYPOT
    puts("hypot");
#endif
#ifdef HAVE_MOON_PHASE
    puts("moon_phase");
#endif
#ifdef HAVE_NANOSLEEP
    puts("nanosleep");
#endif
    return 0;
}
