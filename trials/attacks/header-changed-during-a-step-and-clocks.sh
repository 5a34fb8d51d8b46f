# The clock of the file system is behind this machine's (a server of files; here nubrik's own clock is 10 s ahead, by the package faketime): a header that is changed while a compiler
# runs, after it read it, is taken for one that was not: the result of the old one stays, with the digest of the new one. (The clock that stamps files should say when a step began.)
. "$(cd "$(dirname "$0")" && pwd)/lib"
L=$(ls /usr/lib/*/faketime/libfaketime.so.1 2>/dev/null | head -1); [ -n "$L" ] || { echo "skipped: there is no faketime"; exit; }
mkdir inc; echo old > inc/h.h; echo '#include "h.h"' > m.c
echo 'target t = step { run = [`gcc -E -P -Iinc -MD -MF {depfile "o.d"} {in "m.c"} -o {out "o"}`, `sleep 1.5`], reads = glob("inc/*") }' > targets.nub
f() { find out/default -type f ! -name .gitignore -exec cat {} +; }
for ahead in +0s +10s; do
  rm -rf .nubrik out $T/cache; echo old > inc/h.h; sleep .1; nb() { LD_PRELOAD=$L FAKETIME="$ahead" "$NB" "$@"; }
  nb build > $T/l 2>&1 & p=$!; sleep .9; echo new > inc/h.h; wait $p; r=$?; nb build > $T/l2 2>&1; a=$(f)
  rm -rf .nubrik out; XDG_CACHE_HOME=$T/fx "$NB" build > $T/l3 2>&1; b=$(f); rm -rf $T/fx
  echo "nubrik's clock $ahead: exit $r ($(grep -o 'changed while it ran' $T/l | head -1)), built again: $a ($(grep -v '^$' $T/l2 | head -1)), from nothing: $b"; [ "$a" = "$b" ] || bad=1
done
end
