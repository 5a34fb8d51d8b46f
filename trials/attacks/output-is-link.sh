# A confined step reads undeclared files: its output is a link; nubrik (unconfined) hashes, stores and publishes what it leads to. The result then never follows the file: a wrong result.
. "$(cd "$(dirname "$0")" && pwd)/lib"
echo 'undeclared-1' > other.txt; echo 'private-key-1' > $T/key
cat > targets.nub <<N
target a = step { run = \`ln -s $T/key {out "o"}\` }
target b = step { run = \`ln -s ../../../../other.txt {out "p"}\` }
target c = step { run = \`cat {a} {b} > {out "q"}\` }
N
$NB build >$T/log 2>&1; sed 's/^/  /' $T/log | head -20
echo "  out: $(cat out/default/a/o out/default/b/p 2>&1)"
echo undeclared-2 > other.txt
$NB build >$T/log 2>&1
inc=$(cat out/default/b/p); rm -rf .nubrik out; XDG_CACHE_HOME=$T/cache2 $NB build >$T/log 2>&1; scratch=$(cat out/default/b/p)
echo "  incremental: $inc   from nothing: $scratch"
{ [ "$inc" != "$scratch" ] || grep -qs private-key-1 out/default/a/o; } && verdict 1 || verdict 0
