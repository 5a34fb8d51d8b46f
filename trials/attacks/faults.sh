# Faults: closed stdout, hang-up, stop and go on, steps killed, read-only or missing store, eight builds at once, parts deleted while a build runs.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0; N=$NB
mk() { rm -rf .nubrik out; cat > targets.nub <<'N'
target a = {each n in ["1","2","3","4","5","6"] give n: step { run = `sh {in "g.sh"} {n} {out "o"}` }}
target b = {each n, s in a give n: step { run = `sort {s} -o {out "p"}` }}
target c = step { run = `cat {b} > {out "q"}` }
N
echo 'i=0; while [ $i -lt 300 ]; do echo "$1 line $i"; i=$((i+1)); done > $2; sleep 0.05' > g.sh; }
sum() { cat out/default/c/q out/default/b/*/p 2>/dev/null | sha1sum | cut -c1-8; }
mk; $NB build >/dev/null 2>&1; want=$(sum)
ok() { s=$(sum); if [ "$s" = $want ]; then echo "  ok: $1"; else echo "  WRONG: $1 ($s)"; v=1; fi; }
newc() { export XDG_CACHE_HOME=$T/c$RANDOM$RANDOM; mk; }
newc; $NB build --reasons 2>&1 | head -1 >/dev/null; $NB build >/dev/null 2>&1; ok "| head -1"
newc; $NB build >&- 2>&-; r=$?; $NB build >/dev/null 2>&1; ok "closed stdout and stderr (exit $r)"
newc; $NB build <&- >&- 2>&-; r=$?; $NB build >/dev/null 2>&1; ok "all three closed (exit $r)"
newc; $NB --json build > /dev/full 2>/dev/null; r=$?; $NB build >/dev/null 2>&1; ok "stdout full (exit $r)"
newc; $NB build > /dev/full 2>&1; r=$?; $NB build >/dev/null 2>&1; ok "stdout and stderr full (exit $r)"
newc; $NB build >$T/l 2>&1 & p=$!; sleep 0.15; kill -HUP $p; wait $p; r=$?; $NB build >/dev/null 2>&1; ok "SIGHUP (exit $r)"
newc; $NB build >$T/l 2>&1 & p=$!; sleep 0.15; kill -STOP $p; sleep 0.5; kill -CONT $p; wait $p; r=$?; ok "SIGSTOP, SIGCONT (exit $r)"
newc; $NB build >$T/l 2>&1 & p=$!; sleep 0.15; kill -STOP $p; ( timeout -k 1 3 $NB build >$T/l2 2>&1; echo "  second build while the first is stopped: exit $? ($(head -1 $T/l2))" ); kill -CONT $p; wait $p; ok "second build meanwhile"
newc; $NB build >$T/l 2>&1 & p=$!; sleep 0.12; for c in $(pgrep -P $p); do kill -9 $c; done; wait $p; r=$?; $NB build >/dev/null 2>&1; ok "steps killed (exit $r)"
newc; $NB build >$T/l 2>&1 & p=$!; sleep 0.12; for c in $(pgrep -P $p); do kill -STOP $c; done; sleep 0.5; kill -INT $p; sleep 1; if kill -0 $p 2>/dev/null; then echo "  SIGINT with stopped steps: does not end"; kill -9 $p; v=1; fi; wait $p; for c in $(pgrep -f "$T"); do :; done;  $NB build >/dev/null 2>&1; ok "steps stopped, SIGINT"
newc; for i in 1 2 3 4 5 6 7 8; do $NB build >$T/l$i 2>&1 & eval p$i=$!; done; for i in 1 2 3 4 5 6 7 8; do eval wait \$p$i || { echo "  build $i of 8 failed: $(tail -2 $T/l$i)"; v=1; }; done; ok "eight builds at once, one workspace"
newc; for i in 1 2 3 4 5 6; do rm -rf $T/v$i; cp -a $T/ws $T/v$i; done; for i in 1 2 3 4 5 6; do (cd $T/v$i; $NB build >$T/l$i 2>&1) & done; wait; for i in 1 2 3 4 5 6; do cd $T/v$i; ok "six workspaces, one new store: $i"; done; cd $T/ws
for what in .nubrik .nubrik/made out .nubrik/state .nubrik/seals .nubrik/tmp .nubrik/lock store 'made a' blobs; do for d in 0.05 0.1 0.15 0.2 0.3; do newc; $NB build >$T/l 2>&1 & p=$!; sleep $d; case $what in store) rm -rf $XDG_CACHE_HOME;; 'made a') rm -rf .nubrik/made/a;; blobs) rm -rf $XDG_CACHE_HOME/nubrik/store/v1/blobs;; *) rm -rf $what;; esac; wait $p; r=$?; grep -q 'has a fault\|panick' $T/l && { echo "  PANIC with $what deleted: $(grep -m1 -A1 'has a fault\|panick' $T/l | tr '\n' ' ')"; v=1; }; $NB build >$T/l 2>&1; s=$(sum); [ $s = $want ] || { echo "  WRONG: $what deleted after $d s: $s: $(head -3 $T/l)"; v=1; }; done; done; echo "  50 deletions while building: done"
# deleted .nubrik and a second build beside the first
newc; $NB build >$T/l 2>&1 & p=$!; sleep 0.12; rm -rf .nubrik; $NB build >$T/l2 2>&1; wait $p; s1=$(sum); $NB build >$T/l 2>&1; ok ".nubrik deleted and a second build at once (then $s1)"
# read-only store, no store folder possible
cat > $T/ro.sh <<S
cd $T/ws; mkdir -p $T/roc; mount -t tmpfs -o ro none $T/roc; export XDG_CACHE_HOME=$T/roc; rm -rf .nubrik out; $N build > $T/l 2>&1; echo "exit \$?: \$(head -1 $T/l)"; 
S
echo "  read-only store: $(unshare -m bash $T/ro.sh)"; ok "read-only store"
verdict $v
