# A made folder loses files while a build runs (somebody tidies .nubrik/made): the step behind it runs on what is left, and that is kept under the key of the whole: wrong here and in every workspace of the store.
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir d; for i in 1 2 3; do echo $i > d/$i; done
cat > targets.nub <<'N'
target tree = stage { "d": glob("d/*") }
target slow = step { run = [`sleep 1`, `touch {out "s"}`], reads = tree }
target all = step { run = `sh {in "c.sh"} {tree} {out "o"}`, reads = slow }
N
echo 'cat $1/d/* > $2' > c.sh
$NB build >$T/l 2>&1 & p=$!; sleep 0.6; rm -f .nubrik/made/tree/@tree/tree/d/2; wait $p; echo "  build: exit $?"
$NB build >$T/l 2>&1; echo "  the next build ($(tail -2 $T/l | head -1)): $(cat out/default/all/o | tr '\n' ' ')"; a=$(cat out/default/all/o)
cp -r ../ws ../w2; cd ../w2; rm -rf out .nubrik;  $NB build >$T/l 2>&1; echo "  another workspace: $(cat out/default/all/o | tr '\n' ' ')"
rm -rf out .nubrik; XDG_CACHE_HOME=$T/c2 $NB build >$T/l 2>&1; b=$(cat out/default/all/o); echo "  from nothing: $(echo $b)"; [ "$a" = "$b" ] && verdict 0 || verdict 1
