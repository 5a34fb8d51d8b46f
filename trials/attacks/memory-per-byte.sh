# Memory without bound: texts that are split count by their bytes, not by their pieces. 6 GB are not enough for a definition of 60 lines; an ignore file is read without a limit.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0
python3 - > targets.nub <<'P'
print('let t0 = "a,a,a,a,"'); [print(f'let t{i} = t{i-1} + t{i-1}') for i in range(1,20)]
print('let l0 = [1, 2, 3, 4]'); [print(f'let l{i} = l{i-1} + l{i-1}') for i in range(1,6)]
print('let xs = [each i in l5 give (t19 + "{i}").split(",")]\ntarget t = write { path = "x", text = "{[each x in xs give x.len].len}" }')
P
( ulimit -v 6500000; timeout 100 $NB list >$T/l 2>&1 ); r=$?; echo "  definitions of $(wc -c < targets.nub) bytes under 6.5 GB: exit $r: $(head -1 $T/l | cut -c1-90)"; [ $r = 134 ] && v=1
verdict $v
