# A build that waits for another one does not hear a first or second signal (`timeout`, a service manager or CI send one): it goes on to wait, and then even builds? 
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0
echo 'target a = step { run = [`sleep 4`, `touch {out "o"}`] }' > targets.nub
for s in INT TERM HUP; do
$NB build >$T/l1 2>&1 & p=$!; sleep 0.7; $NB build >$T/l2 2>&1 & q=$!; sleep 0.7; kill -$s $q; sleep 1; kill -0 $q 2>/dev/null && { echo "  $s once: still waiting after 1 s"; v=1; }; wait $p; wait $q; echo "  then exit $?"; rm -rf .nubrik out $T/cache; done
verdict $v
