// Package sea calls C: of its own, of a library of the workspace, and of the system.
package sea

/*
#cgo CFLAGS: -DSTEP=2
#cgo LDFLAGS: -lm
#include <math.h>
#include "own.h"
#include "gauge.h"
*/
import "C"

// Root is a square root.
func Root(x float64) float64 { return float64(C.sqrt(C.double(x))) }

// Level adds what C of this package and a library of the workspace say.
func Level(x int) int { return int(C.stepped(C.int(x)) + C.gauge(C.int(x)) + C.pair(C.int(x))) }

//export goTwice
func goTwice(x C.int) C.int { return 2 * x }
