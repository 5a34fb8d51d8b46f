# Processes that are left when nubrik is killed: grandchildren of steps go on.
. "$(cd "$(dirname "$0")" && pwd)/lib"
echo 'target t = step { run = sh`sleep 47.4711; touch {out "o"}` }' > targets.nub
$NB build >$T/l 2>&1 & p=$!; sleep 0.7; kill -9 $p; wait $p 2>/dev/null; sleep 0.3
n=$(pgrep -fx 'sleep 47.4711' | wc -l); echo "  after kill -9: $n left"; $NB list >/dev/null 2>&1; timeout 1 $NB build >/dev/null 2>&1; m=$(pgrep -fx 'sleep 47.4711' | wc -l); echo "  after the next command: $m"; for q in $(pgrep -fx 'sleep 47.4711'); do kill $q; done
[ $n = 0 ] && verdict 0 || verdict 1
