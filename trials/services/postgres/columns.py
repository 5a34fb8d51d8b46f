"""Writes the columns of each table of a schema as a Python module."""

import re
import sys

schema, target = sys.argv[1:]
tables = {}
for name, body in re.findall(r"CREATE TABLE public\.(\w+) \((.*?)\n\);", open(schema).read(), re.DOTALL):
    tables[name] = [line.split()[0] for line in body.strip().splitlines() if not line.startswith("    CONSTRAINT")]
with open(target, "w") as out:
    for name, columns in sorted(tables.items()):
        out.write(f"{name} = {columns!r}\n")
