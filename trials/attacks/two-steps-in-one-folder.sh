# Two steps in one folder: key `b` of the root's target `a`, and target `b` of the package `a`: both .nubrik/made/a/b/@x and out/default/a/b?
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir a; echo 'target b = write { path = "x", text = "package" }' > a/targets.nub; echo 'target a = { "b": write { path = "x", text = "key" } }' > targets.nub
$NB build >$T/l 2>&1; r=$?; sed 's/^/  /' $T/l | head -12; find out .nubrik/made -type f | grep -v gitignore | while read f; do echo "  $f: $(cat $f)"; done
$NB build a/b >$T/l 2>&1; echo "  build a/b: exit $?: $(head -1 $T/l)"; 
(cd a; $NB build b >$T/l 2>&1; echo "  in a, build b: exit $?: $(head -1 $T/l)")
[ $r = 0 ] && verdict 1 || verdict 0
