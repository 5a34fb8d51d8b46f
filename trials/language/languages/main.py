import runpy
import sys

constants = runpy.run_path(sys.argv[1])
print(constants["DEPTH"], constants["STATIONS"])
