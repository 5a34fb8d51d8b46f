"""Prints a table of contents from the headings of almanac pages."""

import re
import sys

for path in sys.argv[1:]:
    with open(path, encoding="utf-8") as page:
        for heading in re.findall(r"<h2>(.*?)</h2>", page.read()):
            print(f"<li>{heading}</li>")
