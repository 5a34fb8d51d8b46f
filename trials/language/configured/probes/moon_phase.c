#include <no_such_header.h>
int main(void) { return 0; }
