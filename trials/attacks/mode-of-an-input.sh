# The store is poisoned: a confined step changes the mode of its input, which shares its inode with the store. From then on every workspace gets the other mode (results differ from a build from nothing), or (mode 0) an error.
. "$(cd "$(dirname "$0")" && pwd)/lib"
cat > targets.nub <<'N'
target a = step { run = `cp {in "x"} {out "y"}` }
N
cat > g.sh <<'S'
chmod 755 $1; touch $2
S
echo hi > x; cp -r . $T/other
cat >> targets.nub <<'N'
target b = step { run = `sh {in "g.sh"} {a} {out "z"}` }
N
chmod 644 x; $NB build >$T/log 2>&1 || sed 's/^/  /' $T/log
echo "  this workspace, out/default/a/y: $(stat -c %a out/default/a/y)"
rm -rf .nubrik out; $NB build a >$T/log 2>&1;  echo "  this workspace later (a alone): $(stat -c %a out/default/a/y); $(grep -m1 -e reused -e ran $T/log)"
cd $T/other; chmod 644 x; $NB build >$T/log 2>&1; m1=$(stat -c %a out/default/a/y); echo "  another workspace, that has no such step: $m1; $(grep -m1 -e reused -e ran $T/log); $($NB cache verify 2>&1 | tail -1)"
rm -rf .nubrik out; XDG_CACHE_HOME=$T/c2 $NB build >$T/log 2>&1; m2=$(stat -c %a out/default/a/y); echo "  the same from nothing: $m2"
[ $m1 = $m2 ] && verdict 0 || verdict 1
