#include <stdio.h>

extern const char *version;
int stations(void);

int main(void) {
    printf("%s, %d stations\n", version, stations());
    return 0;
}
