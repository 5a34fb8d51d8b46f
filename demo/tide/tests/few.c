/* Too few readings are refused. */
#include "harmonics.h"

int main(void)
{
    static struct readings readings;
    struct fit fit;
    readings.count = 2;
    readings.hour[1] = 6.0;
    return fit_harmonics(&readings, &fit) ? 1 : 0;
}
