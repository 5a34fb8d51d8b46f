# What is remembered of a workspace is thrown away by `nubrik build FILE` (also test, run, why …: wherever words are files) as soon as there is a probe: results of targets that go later stay in out/ for ever, times and reasons are lost.
. "$(cd "$(dirname "$0")" && pwd)/lib"
echo foo > s.txt; echo 1 > a.txt; echo 2 > b.txt
cat > targets.nub <<'N'
let has = probe { run = `grep -q foo {in "s.txt"}`, may_fail = true }.ok
target w = write { path = "w", text = if has then "yes" else "no" }
target a = step { run = `cp {in "a.txt"} {out "o"}` }
target b = step { run = `cp {in "b.txt"} {out "o"}` }
N
$NB build >$T/l 2>&1; echo "  state and log before: $(cat .nubrik/state .nubrik/state.log | wc -c) bytes"
$NB build a.txt >$T/l 2>&1; echo "  after \`build a.txt\`: $(cat .nubrik/state .nubrik/state.log | wc -c) bytes"
sed -i '/target b/d' targets.nub; $NB build >$T/l 2>&1; sed 's/^/  /' $T/l | head -3
echo "  out has: $(ls out/default | tr '\n' ' ')"
[ -e out/default/b ] && verdict 1 || verdict 0
