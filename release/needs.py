"""What a program needs of Debian: the packages of the libraries that it names, each at least as new as the newest of its symbols.

needs.py PROGRAM
"""

import re
import subprocess
import sys

# Packages by libraries, and what the versions of their symbols begin with.
PACKAGES = {
    "libc.so.6": ("libc6", "GLIBC_"),
    "libm.so.6": ("libc6", "GLIBC_"),
    "libgcc_s.so.1": ("libgcc-s1", "GCC_"),
}
LOADER = re.compile(r"ld-linux[^/]*\.so\.[0-9]+$")


def version(text):
    """The numbers of a version."""
    return tuple(int(part) for part in text.split("."))


def main():
    said = subprocess.run(["objdump", "-p", sys.argv[1]], check=True, capture_output=True, text=True).stdout
    needs, library = {}, None
    for name in re.findall(r"^\s+NEEDED\s+(\S+)", said, re.MULTILINE):
        if name not in PACKAGES and not LOADER.match(name):
            sys.exit(f"no package is known that has {name}")
    for line in said.splitlines():
        if found := re.match(r"\s+required from (\S+):", line):
            library = found[1]
        elif found := re.match(r"\s+0x[0-9a-f]+ 0x[0-9a-f]+ [0-9]+ (\S+)", line):
            package, start = PACKAGES.get(library, ("libc6", "GLIBC_"))
            if found[1].startswith(start):
                needs[package] = max(needs.get(package, (0,)), version(found[1].removeprefix(start)))
    print(", ".join(f"{package} (>= {'.'.join(map(str, least))})" for package, least in sorted(needs.items())))


main()
