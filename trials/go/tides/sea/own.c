#include "own.h"
#include "_cgo_export.h"

int stepped(int x) { return goTwice(x) + STEP; }
