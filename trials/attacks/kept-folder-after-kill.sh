# kill -9 of nubrik (or the machine stops) while a step with a `{keptfolder}` runs: the next build finds the half-written folder again
# and keeps a wrong result. A step that is ended by a signal or time limit finds nothing; one whose nubrik is killed does.
. "$(cd "$(dirname "$0")" && pwd)/lib"
cat > k.sh <<'S'
k=$1; o=$2
if [ "$(cat $k/of 2>/dev/null)" != "$(cat a)" ]; then cat a > $k/of; echo half > $k/state; sleep $(cat nap); echo "whole $(cat a)" > $k/state; fi
cat $k/state > $o
S
echo 0 > nap; echo 1 > a
echo 'target t = step { run = `sh {in "k.sh"} {keptfolder "k"} {out "o"}`, reads = ["a", "nap"] }' > targets.nub
both "first"; echo 2 > a; echo 3 > nap; "$NB" build > $T/l 2>&1 & p=$!; sleep 1.2; kill -9 $p; wait $p 2>/dev/null; sleep .2; both "built again after kill -9"
end
