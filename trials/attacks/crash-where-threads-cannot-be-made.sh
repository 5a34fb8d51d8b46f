# Where memory is limited (`ulimit -v`, as on machines that many share; 400 MB are too few) nubrik "has a fault": a thread that cannot be started is a panic. Nothing is lost.
. "$(cd "$(dirname "$0")" && pwd)/lib"
echo 'target t = step { run = sh`echo hi > {out "o"}` }' > targets.nub
for l in "-v 400000" "-v 150000" "-s 64"; do rm -rf .nubrik out; ( ulimit $l; "$NB" build > $T/l 2>&1 ); r=$?; echo "ulimit $l: exit $r: $(grep -v '^$' $T/l | head -1)"; grep -q 'has a fault\|overflowed' $T/l && bad=1; done
end
