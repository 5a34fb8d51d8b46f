"""Checks that the record in a wheel has each file, its digest and its size."""

import base64
import csv
import hashlib
import io
import sys
import zipfile

for path in sys.argv[1:]:
    with zipfile.ZipFile(path) as wheel:
        record = next(name for name in wheel.namelist() if name.endswith("RECORD"))
        rows = list(csv.reader(io.TextIOWrapper(wheel.open(record))))
        assert sorted(row[0] for row in rows) == sorted(wheel.namelist()), path
        for name, digest, size in rows:
            data = wheel.read(name)
            found = base64.urlsafe_b64encode(hashlib.sha256(data).digest()).rstrip(b"=").decode()
            assert name == record or (digest, int(size)) == ("sha256=" + found, len(data)), name
