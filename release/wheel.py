"""Packs a folder tree of the program as a wheel (the binary distribution format of Python, version 1.0), so that `pip install FILE`
installs it. The same files give the same bytes.

    wheel.py TREE VERSION ARCHITECTURE OUTPUT
"""

import base64
import hashlib
import os
import sys
import zipfile

tree, version, architecture, output = sys.argv[1:]
name = f"nubrik-{version}"
tag = f"py3-none-linux_{architecture}"

metadata = f"""Metadata-Version: 2.1
Name: nubrik
Version: {version}
Summary: A build tool for Linux
License: Apache-2.0
Requires-Python: >=3.7
"""
wheel = f"""Wheel-Version: 1.0
Generator: nubrik ({version})
Root-Is-Purelib: false
Tag: {tag}
"""

# Where the files go: programs beside the interpreter, all else below its prefix.
files = {}
for folder, _, names in os.walk(tree):
    for file in names:
        path = os.path.join(folder, file)
        place = os.path.relpath(path, tree).removeprefix("usr/")
        place = f"scripts/{file}" if place.startswith("bin/") else f"data/{place}"
        with open(path, "rb") as content:
            files[f"{name}.data/{place}"] = content.read()
files[f"{name}.dist-info/METADATA"] = metadata.encode()
files[f"{name}.dist-info/WHEEL"] = wheel.encode()


def digest(content):
    return base64.urlsafe_b64encode(hashlib.sha256(content).digest()).rstrip(b"=").decode()


rows = [f"{path},sha256={digest(content)},{len(content)}" for path, content in sorted(files.items())]
record = f"{name}.dist-info/RECORD"
files[record] = "\n".join([*rows, f"{record},,"]).encode() + b"\n"

with zipfile.ZipFile(output, "w", zipfile.ZIP_DEFLATED, compresslevel=9) as archive:
    # What says what the rest is comes last, as the format asks.
    for path in sorted(files, key=lambda path: (".dist-info/" in path, path)):
        entry = zipfile.ZipInfo(path, (1980, 1, 1, 0, 0, 0))
        entry.create_system = 3
        entry.external_attr = (0o100755 if "/scripts/" in path else 0o100644) << 16
        entry.compress_type = zipfile.ZIP_DEFLATED
        archive.writestr(entry, files[path])
