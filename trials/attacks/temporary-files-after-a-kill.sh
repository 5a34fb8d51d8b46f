# After kill -9 the steps' temporary files stay in the machine's memory (/dev/shm); another step, or another workspace, never removes them.
. "$(cd "$(dirname "$0")" && pwd)/lib"
echo 'target t = step { run = sh`head -c 30000000 /dev/zero > "$TMPDIR/big"; sleep 20; touch {out "o"}` }' > targets.nub
$NB build >$T/l 2>&1 & p=$!; sleep 1.2; D=$(readlink .nubrik/tmp); kill -9 $p; wait $p; for q in $(pgrep -fx 'sleep 20'); do [ "$(readlink /proc/$q/cwd)" = "$T/ws" ] && kill $q; done
echo 'target t2 = step { run = `touch {out "o"}` }' > targets.nub; $NB build >$T/l 2>&1; $NB clean >$T/l 2>&1; s=$(du -sm $D 2>/dev/null | cut -f1); echo "  after kill -9, another build and clean: ${s:-0} MB in $D"; rm -rf "$D"
[ "${s:-0}" -gt 10 ] && verdict 1 || verdict 0
