# Memory without bound: what a sample writes to standard error goes to a memory file without a limit (then is read whole); a tool asked for its version is read without limit and without time limit.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0
shm() { awk '/^Shmem:/{print int($2/1024)}' /proc/meminfo; }
echo 'let p = sample { run = `sh -c "yes 0123456789012345678901234567890123456789 >&2"`, timeout = 3s, may_fail = true }
target t = write { path = "t", text = p.text }' > targets.nub
a=$(shm); $NB list >$T/l 2>&1 & p=$!; sleep 2.5; b=$(shm); wait $p; echo "  sample's standard error: $((b-a)) MB of memory in 2.5 s (exit $?)"; [ $((b-a)) -gt 300 ] && v=1
printf '#!/bin/sh\nexec yes 0123456789012345678901234567890123456789\n' > $T/yesver; chmod +x $T/yesver; mkdir $T/bin; mv $T/yesver $T/bin/
echo 'let p = tool { names = "yesver", at_least = "1.0" }
target t = write { path = "t", text = p.version }' > targets.nub
PATH=$T/bin:$PATH $NB list >$T/l 2>&1 & p=$!; sleep 3; r=$(awk '/VmRSS/{print int($2/1024)}' /proc/$p/status 2>/dev/null); kill -INT $p; sleep 1; kill -0 $p 2>/dev/null && echo "  version of a tool that prints for ever: $r MB after 3 s, SIGINT does not end it" && v=1; kill -9 $p $(pgrep -P $p) 2>/dev/null; wait 2>/dev/null
printf '#!/bin/sh\nsleep 600\n' > $T/bin/slowver; chmod +x $T/bin/slowver; sed -i s/yesver/slowver/ targets.nub
PATH=$T/bin:$PATH $NB list >$T/l 2>&1 & p=$!; sleep 4; kill -INT $p; sleep 1; kill -0 $p 2>/dev/null && echo "  version of a tool that says nothing: waits for ever, SIGINT does not end it" && v=1;  c=$(pgrep -P $p); kill -9 $p $c 2>/dev/null; wait 2>/dev/null
verdict $v
