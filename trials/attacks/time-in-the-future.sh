# A source with a time in the future (clock set back, archive, other machine) that a command lists can never be built.
. "$(cd "$(dirname "$0")" && pwd)/lib"
cat > targets.nub <<'N'
use "nub:c" as c
target p = c.program { sources = "*.c" }
N
echo 'int main(void){return 0;}' > m.c; touch -d '2099-01-01' m.c
for i in 1 2 3; do $NB build >$T/log 2>&1; r=$?; echo "  build $i: exit $r: $(grep -m1 failed $T/log)"; done
[ $r = 0 ] && verdict 0 || verdict 1
