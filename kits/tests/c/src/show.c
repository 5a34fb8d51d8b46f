#include <tide/fit.h>
