# The kit of Python asks by a probe whether there is the module `coverage`; modules count in no key, so the answer is kept: somebody who installs it as the message says hears the same
# message ever after (until the store and .nubrik are removed). Here a module folder of the system's Python is put in place (needs the superuser).
. "$(cd "$(dirname "$0")" && pwd)/lib"
cat > $T/in <<'S'
D=$(/usr/bin/python3 -c 'print([p for p in __import__("sys").path if p.endswith("dist-packages")][-1])'); mkdir -p $T/dp; mount --bind $T/dp $D
mkdir -p py/pk tests; : > py/pk/__init__.py; echo 'import unittest
class T(unittest.TestCase):
    def test_g(self): pass' > tests/test_a.py
cat > targets.nub <<'N'
use "nub:python" as python
target pk = python.package { name = "pk", version = "1", root = "py", sources = "py/pk/*.py" }
test p = python.unit_tests { sources = "tests/test_*.py", needs = pk }
N
export PATH=/usr/bin:/bin; "$NB" test --coverage > $T/l 2>&1; echo "without the module: exit $?: $(grep error $T/l | cut -c1-110)"
mkdir -p $T/dp/coverage; echo 'version_info = (7, 0)' > $T/dp/coverage/__init__.py; printf 'import sys\nargs=sys.argv[1:]\nopen([a.split("=")[1] for a in args if a.startswith("--data-file")][0],"w") if "run" in args else open(args[args.index("-o")+1],"w").write("")\n' > $T/dp/coverage/__main__.py
/usr/bin/python3 -I -c 'import coverage' || exit 2
"$NB" test --coverage > $T/l 2>&1; a=$?; echo "with the module: exit $a: $(grep error $T/l | cut -c1-110)"; a=$(grep -c 'has no module' $T/l)
rm -rf .nubrik out; XDG_CACHE_HOME=$T/fx "$NB" test --coverage > $T/l 2>&1; b=$(grep -c 'has no module' $T/l); echo "from nothing: $(grep -m1 . $T/l | cut -c1-110)"; [ $a = $b ]
S
export T NB; unshare -m bash $T/in; r=$?; [ $r = 2 ] && { echo "no verdict"; exit 2; }; [ $r = 0 ] || bad=1
end
