"""Calls the library in C++, which calls Fortran."""

import ctypes
import os

_tides = ctypes.CDLL(os.environ["TIDES_LIBRARY"])
_tides.water_over.restype = ctypes.c_double
_tides.water_over.argtypes = [ctypes.c_char_p, ctypes.c_double]


def water_over(code, hour):
    return _tides.water_over(code.encode(), hour)
