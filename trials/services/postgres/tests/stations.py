"""Stations can be entered, each once."""

import os
import runpy
import subprocess
import sys

tables = runpy.run_path(sys.argv[1])


def sql(text):
    command = ["psql", "-X", "-At", "-v", "ON_ERROR_STOP=1", "-c", text]
    return subprocess.run(command, capture_output=True, text=True)


columns = ", ".join(tables["stations"])
assert columns.startswith("code, name"), columns
print("tests at", os.environ["PGHOST"])
assert sql(f"insert into stations (code, name) values ('ard', 'Ardle')").returncode == 0
twice = sql(f"insert into stations (code, name) values ('ard', 'Ardle')")
assert "duplicate key" in twice.stderr, twice.stderr
assert sql("select name from stations").stdout == "Ardle\n"
