# Wrong result: a listing with names that do not exist from the folder of the step (the command changed its folder first) is taken as "nothing read", without a word.
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir sub; echo one > sub/x.h; echo '#include "x.h"' > sub/m.c
cat > targets.nub <<'N'
target t = step { run = `sh {in "r.sh"} {in "sub/m.c"} {depfile "m.d"} {out "o"}`, reads = "sub/*.h" }
N
echo 'd=$PWD; r=$(pwd -P); cd sub; cpp -P -MD -MF "$r/$2" m.c -o "$r/$3"' > r.sh
$NB build >$T/l 2>&1 || cat $T/l; echo two > sub/x.h; $NB build >$T/l 2>&1; a=$(cat out/default/t/o); rm -rf .nubrik out; XDG_CACHE_HOME=$T/c2 $NB build >$T/l 2>&1; b=$(cat out/default/t/o); echo "  incremental '$a' from nothing '$b'"; [ "$a" = "$b" ] && verdict 0 || verdict 1
