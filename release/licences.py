"""Writes the licence texts of third-party packages to one file: each text once, with the packages that have it.

    licences.py NAMES OUTPUT ARCHIVE...

NAMES has a line for each archive: the package, its version, and its licence as the registry says.
"""

import collections
import re
import sys
import tarfile

names, output, *archives = sys.argv[1:]
with open(names, encoding="utf-8") as file:
    lines = file.read().splitlines()
assert len(lines) == len(archives), "a line for each archive"

IS_LICENCE = re.compile(r"^[^/]+/(LICEN[CS]E|COPYING|NOTICE|UNLICENSE|COPYRIGHT)[^/]*$", re.IGNORECASE)
texts = collections.defaultdict(list)
without = []
for line, path in zip(lines, archives):
    found = []
    with tarfile.open(path) as archive:
        for entry in archive:
            if entry.isfile() and IS_LICENCE.match(entry.name):
                text = archive.extractfile(entry).read().decode("utf-8", "replace")
                found.append("\n".join(row.rstrip() for row in text.strip().splitlines()))
    for text in found:
        texts[text].append(line)
    if not found:
        without.append(line)

with open(output, "w", encoding="utf-8") as out:
    out.write("This program holds packages of others. Here are their licences, each with the packages that have it.\n")
    if without:
        out.write("\nThese have no text of their own; their registry says which licence they have:\n")
        out.writelines(f"    {line}\n" for line in sorted(without))
    for text, users in sorted(texts.items(), key=lambda row: (sorted(row[1]), row[0])):
        out.write("\n" + "-" * 100 + "\n")
        out.writelines(f"{line}\n" for line in sorted(set(users)))
        out.write("\n" + text + "\n")
