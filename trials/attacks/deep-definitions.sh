# Crash: `int????…` (stack overflow, SIGABRT), a glob or an address with braces 200 deep or 300,000 `?` (panic in the glob library).
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0; t() { timeout 60 $NB $2 >$T/l 2>&1; r=$?; echo "  $1: exit $r: $(grep -m1 -o 'overflowed its stack\|has a fault and must stop\|error .*' $T/l | cut -c1-80)"; case $r in 134|139|5) v=1;; esac; }
python3 -c "print('let a: int'+'?'*10000+' = none')" > targets.nub; t "type with 10,000 ?" list
python3 -c "print('let g = glob(\'' + '{a,'*200+'b'+'}'*200 + '\', or_none = true)\ntarget t = write { path = \"x\", text = \"{g.len}\" }')" > targets.nub; t "glob, braces 200 deep" lint
python3 -c "print('let g = glob(\'' + '?'*300000 + '\', or_none = true)\ntarget t = write { path = \"x\", text = \"{g.len}\" }')" > targets.nub; t "glob, 300,000 ?" list
echo 'target t = write { path = "x", text = "1" }' > targets.nub; t "address, braces 300 deep" "list $(python3 -c "print('{a,'*300+'b'+'}'*300)")"
verdict $v
