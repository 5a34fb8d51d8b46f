# A listed header that is no longer declared: the incremental build goes on, a build from nothing fails. (Also when a package, an ignore file or `except` takes it out of a glob.)
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir inc; echo '#define V "v"' > inc/a.h; echo > inc/b.h
cat > m.c <<'C'

#include "a.h"
int main(void){puts(V);return 0;}
C
cat > targets.nub <<'N'
target p = step { run = `cpp -P -nostdinc -Iinc -MD -MF {depfile "m.d"} {in "m.c"} -o {out "p"}`, reads = ["inc/a.h", "inc/b.h"] }
N
$NB build >$T/log 2>&1; sed -i 's/"inc\/a.h", //' targets.nub
$NB build >$T/log 2>&1; r1=$?; cat $T/log; rm -rf .nubrik out; $NB build >$T/log 2>&1; echo "  results deleted: exit $?, $(head -1 $T/log)"; rm -rf .nubrik out; XDG_CACHE_HOME=$T/c2 $NB build >$T/log 2>&1; r2=$?; echo "  from nothing: exit $r2, $(head -1 $T/log)"
[ $r1 = $r2 ] && verdict 0 || verdict 1
