# Wrong result: an output folder with links, empty folders or names that are not UTF-8 comes back from the store as something else.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0
cat > gen.sh <<'S'
mkdir -p $1/empty $1/sub; echo data > $1/sub/f; ln -s sub/f $1/link
S
cat > targets.nub <<'N'
target g = step { run = `sh {in "gen.sh"} {outfolder "d"}` }
target l = step { run = `sh {in "ls.sh"} {g} {out "names"}` }
N
cat > ls.sh <<'S'
( find $1 -printf '%P %y\n' | LC_ALL=C sort ) > $2
S
look() { (cd out/default/g/d && find . -printf '%P %y %l\n' | LC_ALL=C sort) > $T/$1.out; cp out/default/l/names $T/$1.names; }
$NB build >$T/log 2>&1 || sed 's/^/  /' $T/log
look run
# Some time later: results deleted, taken from the cache, and the step behind it runs again.
rm -rf .nubrik out; echo '#' >> ls.sh; $NB build >$T/log 2>&1 || sed 's/^/  /' $T/log
look reuse
diff $T/run.names $T/reuse.names | sed 's/^/  a step behind sees: /'; diff $T/run.out $T/reuse.out | sed 's/^/  out: /'
cmp -s $T/run.names $T/reuse.names && cmp -s $T/run.out $T/reuse.out || v=1
# A name that is no text cannot be kept, and is refused by name.
echo 'printf odd > "$1/$(printf "n\377")"' >> gen.sh; $NB build >$T/log 2>&1; r=$?; echo "  a name that is not UTF-8: exit $r: $(head -1 $T/log)"
[ $r = 1 ] && grep -q "UTF-8" $T/log || v=1
verdict $v
