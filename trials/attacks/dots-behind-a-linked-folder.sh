# Wrong result: `..` in a listing is taken out by its letters; behind a linked folder it leads elsewhere, and a header is forgotten.
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir -p other/inc src; ln -s ../other/inc src/inc
echo '#include "../common.h"' > other/inc/x.h; echo '#define V "one"' > other/common.h
cat > src/m.c <<'C'
#include <stdio.h>
#include "x.h"
int main(void){puts(V);return 0;}
C
cat > targets.nub <<'N'
target o = step { run = `cc -Isrc/inc -MD -MF {depfile "m.d"} {in "src/m.c"} -o {out "p"}`, reads = ["src/inc/*.h", "other/**/*.h"] }
N
$NB build >$T/log 2>&1 || sed 's/^/  /' $T/log; grep -o '[^ ]*common.h' .nubrik/made/o/*/m.d
echo '#define V "two"' > other/common.h; $NB build >$T/log 2>&1; a=$(out/default/o/p)
rm -rf .nubrik out;  XDG_CACHE_HOME=$T/c2 $NB build >$T/log 2>&1; b=$(out/default/o/p)
echo "  incremental '$a' from nothing '$b'"; [ "$a" = "$b" ] && verdict 0 || verdict 1
