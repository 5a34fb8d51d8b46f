# Wrong result: a header that appears is not noticed where only the command's words (or a pasted name) speak of it.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0
mkdir inc
check() { $NB build >$T/log 2>&1 || sed 's/^/  /' $T/log; a=$(out/default/p); rm -rf $T/w2; mkdir $T/w2; cp -r targets.nub nubrik.toml m.c inc $T/w2; b=$(cd $T/w2; XDG_CACHE_HOME=$T/c-$RANDOM $NB build >$T/log2 2>&1; out/default/p); echo "  $1: incremental '$a' from nothing '$b'"; [ "$a" = "$b" ] || v=1; }
# a) the name stands in the command
cat > targets.nub <<'N'
use "nub:c" as c
target p = c.program { sources = "m.c", internal = "inc/*.h", flags = ["-Iinc", "-DCONFIG=\"config.h\""] }
N
echo '#define X' > inc/z.h
cat > m.c <<'C'
#include <stdio.h>
#if __has_include(CONFIG)
#include CONFIG
#else
#define V "none"
#endif
int main(void){puts(V);return 0;}
C
check "before"; echo '#define V "config"' > inc/config.h; check "-DCONFIG=\"config.h\" and __has_include"
# b) the name is pasted together
rm -rf inc .nubrik out; mkdir inc;  echo '#define X' > inc/z.h
cat > targets.nub <<'N'
use "nub:c" as c
target p = c.program { sources = "m.c", internal = "inc/*.h", flags = "-Iinc" }
N
sed -i 's/option/list/' targets.nub; sed -i 's/flags = "-Iinc"/flags = ["-Iinc"]/' targets.nub
cat > m.c <<'C'
#include <stdio.h>
#define S_(x) #x
#define S(x) S_(x)
#define JOIN_(a,b) a##b
#define JOIN(a,b) JOIN_(a,b)
#define NAME S(JOIN(con,fig).h)
#if __has_include(NAME)
#include NAME
#else
#define V "none"
#endif
int main(void){puts(V);return 0;}
C
check "before"; echo '#define V "config"' > inc/config.h; check "name pasted from two parts"
verdict $v
