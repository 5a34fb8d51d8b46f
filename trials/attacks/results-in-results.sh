# Two results at one place: a lone result `a` of the root and results of the package `a`, or a folder and what lies in it, take each other away.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0; mkdir a d; echo 'target x = write { path = "x", text = "X" }' | tee a/targets.nub > d/targets.nub
for one in 'target a = write { path = "a", text = "A" }' 'target d = step { run = sh`mkdir -p {outfolder "d"}; echo 1 > {outfolder "d"}/y` }'; do
  rm -rf .nubrik out; echo "$one" > targets.nub
  for i in 1 2 3; do $NB build >$T/l 2>&1; r=$?; [ $r = 3 ] && grep -q "which lies in it" $T/l || v=1; echo "  build $i: exit $r: $(head -1 $T/l)"; done
done
verdict $v
