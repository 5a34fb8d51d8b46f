#include <time.h>
int main(void) { return nanosleep == 0; }
