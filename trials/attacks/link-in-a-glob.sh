# Wrong result: a glob's link to a file whose target appears later (or goes) is not noticed: the folder's own time does not change.
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir src other; echo a > src/a.txt; ln -s ../other/b.txt src/b.txt
echo 'target t = step { run = `cat {glob("src/*.txt")} > {out "o"}` }' > targets.nub
$NB build >$T/log 2>&1; echo b > other/b.txt; sleep 0.1
$NB build >$T/log 2>&1; inc=$(cat out/default/t/o | tr '\n' ' '); sed 's/^/  /' $T/log
rm -rf .nubrik out; XDG_CACHE_HOME=$T/c2 $NB build >$T/log 2>&1; full=$(cat out/default/t/o| tr '\n' ' ')
echo "  target appears: incremental '$inc' from nothing '$full'"
[ "$inc" = "$full" ] && v=0 || v=1
rm other/b.txt; $NB build >$T/log 2>&1; r1=$?; l=$(grep -m1 failed -A3 $T/log | tr '\n' ' ')
rm -rf .nubrik out; XDG_CACHE_HOME=$T/c3 $NB build >$T/log 2>&1; r2=$?
echo "  target goes: incremental exit $r1 ($l), from nothing exit $r2"; [ $r1 = $r2 ] || v=1
verdict $v
