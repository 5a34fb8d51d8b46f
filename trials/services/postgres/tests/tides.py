"""A tide needs its station. The database is this test's own: no other one's stations are in it."""

import runpy
import subprocess
import sys

tables = runpy.run_path(sys.argv[1])
assert "height_cm" in tables["tides"], tables


def sql(text):
    command = ["psql", "-X", "-At", "-v", "ON_ERROR_STOP=1", "-c", text]
    return subprocess.run(command, capture_output=True, text=True)


assert sql("select count(*) from stations").stdout == "0\n"
lost = sql("insert into tides values ('ard', now(), 140)")
assert "foreign key" in lost.stderr, lost.stderr
